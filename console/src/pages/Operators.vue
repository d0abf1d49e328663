<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import ConfinementFields from '../parts/ConfinementFields.vue'
import Field from '../parts/Field.vue'
import Notice from '../parts/Notice.vue'
import OperatorRow from '../parts/OperatorRow.vue'
import PageHead from '../parts/PageHead.vue'
import { roles } from '../parts/roles'
import ApprovalPanel from '../parts/ApprovalPanel.vue'
import SignOnPanel from '../parts/SignOnPanel.vue'
import { useForm } from '../parts/useForm'

const operators = ref<Schemas['Operator'][]>([])
const made = ref<Schemas['NewOperator']>()
const adding = ref(false)
const { draft, wrong, busy, run } = useForm({
  name: '',
  role: 'issuer',
  confined: { groups: [] as string[], gateways: [] as string[] },
})

async function look() {
  operators.value = (
    await ask(api.GET('/api/v1/operators', { params: { query: { limit: 200 } } }))
  ).items
}
onMounted(() => run(look, ''))
async function add() {
  await run(async () => {
    const { confined, ...rest } = draft
    const body = rest.role === 'issuer' ? { ...rest, confined } : rest
    made.value = await ask(api.POST('/api/v1/operators', { body }))
    adding.value = false
    Object.assign(draft, { name: '', confined: { groups: [], gateways: [] } })
    await look()
  }, '')
}
</script>

<template>
  <PageHead title="Operators">
    <BButton v-if="!adding" variant="primary" size="sm" @click="adding = true"
      >Add an operator</BButton
    >
  </PageHead>
  <p class="soft">
    An auditor reads everything but secrets. An issuer does the daily work, for everybody or for
    some groups and gateways. An owner also manages operators, authorities, signing, mail and the
    severity of rules.
  </p>
  <form v-if="adding" class="panel mb-4" novalidate @submit.prevent="add">
    <div class="columns">
      <Field v-model="draft.name" label="Name" pointer="/name" required />
      <Field v-model="draft.role" kind="choice" label="Role" pointer="/role" :choices="roles" />
    </div>
    <ConfinementFields v-if="draft.role === 'issuer'" v-model="draft.confined" of="new" />
    <BButton class="alters" type="submit" variant="primary" :disabled="busy">Add</BButton>
    <BButton type="button" variant="link" @click="adding = false">Cancel</BButton>
  </form>
  <Notice :text="wrong" />
  <div v-if="made" class="finding note mb-4" role="status">
    <strong>{{ made.operator.name }}</strong> signs in for the first time with
    <span class="mono">{{ made.password }}</span> and then chooses a password. It is not shown
    again.
    <button type="button" class="linklike" @click="made = undefined">Hide</button>
  </div>
  <section class="panel" aria-labelledby="who">
    <h2 id="who" class="visually-hidden">Operators</h2>
    <table class="grid-table stack">
      <thead>
        <tr>
          <th scope="col">Name</th>
          <th scope="col">Role</th>
          <th scope="col">State</th>
          <th scope="col">Second factor</th>
          <th scope="col">Last sign-in</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <OperatorRow
          v-for="o in operators"
          :key="o.id"
          :operator="o"
          @changed="look"
          @reset="(n) => ((made = n), look())"
        />
      </tbody>
    </table>
  </section>
  <ApprovalPanel />
  <SignOnPanel />
</template>
