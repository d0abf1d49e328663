<script setup lang="ts">
// Gives the newest parcel of a profile to its person: a link and a passcode, shown once; the links that are out.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { useForm } from './useForm'

const props = defineProps<{ profile: string }>()
const list = ref<Schemas['Handover'][]>([])
const made = ref<Schemas['NewHandover']>()
const { draft, errors, wrong, done, busy, run } = useForm({ days: 7, openings: 3 })
const looks: Record<string, string> = { made: 'advice', opened: 'advice', fetched: 'fine', locked: 'blocker' }

async function look() {
  const query = { filter: [`profile_id:${props.profile}`], limit: 20 }
  list.value = (await ask(api.GET('/api/v1/handovers', { params: { query } }))).items
}
onMounted(() => run(look, ''))
async function make() {
  await run(async () => {
    const body = { profile_id: props.profile, days: Number(draft.days), openings: Number(draft.openings) }
    made.value = await ask(api.POST('/api/v1/handovers', { body }))
    await look()
  }, '')
}
async function recall(id: string) {
  await run(async () => {
    await ask(api.POST('/api/v1/handovers/{id}/recall', { params: { path: { id } } }))
    if (made.value?.handover.id === id) made.value = undefined
    await look()
  }, 'The link is closed.')
}
const closed = (h: Schemas['Handover']) =>
  h.state === 'recalled' || h.state === 'locked' || new Date(h.expires) < new Date()
const link = (path: string) => window.location.origin + path
const time = (v: string) => new Date(v).toLocaleString([], { dateStyle: 'short', timeStyle: 'short' })
</script>

<template>
  <section class="panel mb-4" aria-labelledby="handing">
    <h2 id="handing">Hand it over</h2>
    <p class="soft">
      A link to the newest parcel, with a passcode that you tell another way. Neither can be shown again.
    </p>
    <form novalidate @submit.prevent="make">
      <div class="columns">
        <Field v-model="draft.days" kind="number" label="Days until it ends" pointer="/days" :errors="errors" />
        <Field
          v-model="draft.openings"
          kind="number"
          label="Openings that it allows"
          pointer="/openings"
          :errors="errors"
        />
      </div>
      <Notice :text="errors['/profile_id'] ?? wrong" /><Notice :text="done" kind="done" />
      <BButton type="submit" variant="outline-secondary" :disabled="busy">Make a link</BButton>
    </form>
    <div v-if="made" class="finding advice mt-3" role="status">
      <div>
        Link: <span class="mono">{{ link(made.path) }}</span>
      </div>
      <div>
        Passcode, told another way: <span class="mono">{{ made.passcode }}</span>
      </div>
      <button type="button" class="linklike mt-1" @click="made = undefined">Hide both</button>
    </div>
    <table v-if="list.length" class="grid-table stack mt-3">
      <thead>
        <tr>
          <th scope="col">Made</th>
          <th scope="col">State</th>
          <th scope="col">Openings</th>
          <th scope="col">Ends</th>
          <th scope="col"><span class="visually-hidden">What to do</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="h in list" :key="h.id">
          <td>{{ time(h.created) }} by {{ h.operator }}</td>
          <td data-label="State">
            <span class="tag" :class="looks[h.state] ?? 'plain'">{{ h.state }}</span>
          </td>
          <td data-label="Openings">{{ h.openings }} of {{ h.most }}</td>
          <td data-label="Ends">{{ time(h.expires) }}</td>
          <td>
            <BButton v-if="!closed(h)" size="sm" variant="outline-danger" :disabled="busy" @click="recall(h.id)"
              >Recall</BButton
            >
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
