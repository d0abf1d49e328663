<script setup lang="ts">
// What operators want to do that takes two.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import { useSession } from '../api/session'
import Notice from './Notice.vue'
import TimeText from './TimeText.vue'
import { useForm } from './useForm'

const session = useSession()
const approvals = ref<Schemas['Approval'][]>([])
const { wrong, busy, run } = useForm({})
async function look() {
  approvals.value = (await ask(api.GET('/api/v1/approvals'))).items.slice(0, 20)
}
onMounted(() => run(look, ''))
async function decide(a: Schemas['Approval'], granted: boolean) {
  const params = { path: { id: a.id } }
  await run(async () => {
    await ask(api.PUT('/api/v1/approvals/{id}/decision', { params, body: { granted } }))
    await look()
  }, '')
}
const open = (a: Schemas['Approval']) =>
  !a.decided && Date.now() - Date.parse(a.created) < 24 * 3600_000
const mine = (a: Schemas['Approval']) => a.operator === session.operator?.name
</script>

<template>
  <section v-if="approvals.length" class="panel mt-4" aria-labelledby="approvals">
    <h2 id="approvals">Approvals</h2>
    <Notice :text="wrong" />
    <table class="grid-table stack">
      <thead>
        <tr>
          <th scope="col">Requested</th>
          <th scope="col">By</th>
          <th scope="col">What</th>
          <th scope="col">State</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="a in approvals" :key="a.id">
          <td data-label="Requested"><TimeText :at="a.created" /></td>
          <td data-label="By">{{ a.operator }}</td>
          <td data-label="What">{{ a.what }}</td>
          <td data-label="State">
            <template v-if="a.used">done, granted by {{ a.by }}</template>
            <template v-else-if="a.decided && a.granted">granted by {{ a.by }}</template>
            <template v-else-if="a.decided">refused by {{ a.by }}</template>
            <template v-else-if="!open(a)">expired</template>
            <template v-else-if="mine(a)">waits for another operator</template>
            <template v-else>
              <BButton
                size="sm"
                variant="outline-secondary"
                :disabled="busy"
                @click="decide(a, true)"
                >Grant</BButton
              >
              <BButton
                size="sm"
                variant="outline-secondary"
                class="ms-1"
                :disabled="busy"
                @click="decide(a, false)"
                >Refuse</BButton
              >
            </template>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
