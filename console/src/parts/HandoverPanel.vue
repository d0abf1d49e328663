<script setup lang="ts">
// Gives the newest parcel of a profile to its person: a link and a passcode, shown once; the links
// that are out, and the gateways that the device was seen through.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import HandoverMade from './HandoverMade.vue'
import LinksWarning from './LinksWarning.vue'
import Notice from './Notice.vue'
import { isClosed, stateLooks } from './handovers'
import { moment } from './times'
import { save } from './files'
import { useForm } from './useForm'

const props = defineProps<{ profile: string }>()
const emit = defineEmits<{ changed: [] }>()
const list = ref<Schemas['Handover'][]>([])
const seen = ref<Schemas['SeenConnection'][]>([])
const made = ref<Schemas['NewHandover']>()
const archive = ref<Schemas['Archive']>()
const { draft, errors, wrong, done, busy, run } = useForm({
  days: 7,
  uses: 3,
  link: 'shown' as 'shown' | 'mail',
})
const ways = [
  { value: 'shown', text: 'Shown to me' },
  { value: 'mail', text: 'Emailed to the person' },
]

async function look() {
  const query = { filter: [`profile_id:${props.profile}`], limit: 20 }
  list.value = (await ask(api.GET('/api/v1/handovers', { params: { query } }))).items
  const params = { path: { id: props.profile } }
  seen.value = (await ask(api.GET('/api/v1/profiles/{id}/seen-connections', { params }))).items
}
onMounted(() => run(look, ''))
async function make() {
  await run(async () => {
    const body = {
      profile_id: props.profile,
      days: Number(draft.days),
      uses: Number(draft.uses),
      link: draft.link,
    }
    made.value = await ask(api.POST('/api/v1/handovers', { body }))
    await look()
    emit('changed')
  }, '')
}
async function reissue(id: string) {
  await run(async () => {
    made.value = await ask(
      api.POST('/api/v1/handovers/{id}/reissue', {
        params: { path: { id } },
        body: { link: draft.link },
      }),
    )
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
async function pack() {
  await run(async () => {
    archive.value = await ask(api.POST('/api/v1/archives', { body: { profile_id: props.profile } }))
    save(archive.value.name, archive.value.content)
  }, '')
}
</script>

<template>
  <section class="panel mb-4" aria-labelledby="handing">
    <h2 id="handing">Hand over</h2>
    <p class="soft">
      Creates a link to the newest parcel, and a passcode that you send another way. They cannot be
      shown again.
    </p>
    <LinksWarning />
    <form class="alters" novalidate @submit.prevent="make">
      <div class="columns">
        <Field v-model="draft.days" kind="number" label="Days until it expires" pointer="/days" />
        <Field v-model="draft.uses" kind="number" label="Maximum uses" pointer="/uses" />
        <Field
          v-model="draft.link"
          kind="choice"
          label="The link is"
          pointer="/link"
          :choices="ways"
        />
      </div>
      <div class="d-flex flex-wrap gap-2">
        <BButton class="alters" type="submit" variant="outline-secondary" :disabled="busy"
          >Create a link</BButton
        >
        <BButton variant="outline-secondary" :disabled="busy" @click="pack"
          >Save as an encrypted archive</BButton
        >
      </div>
    </form>
    <Notice :text="errors['/profile_id'] ?? wrong" /><Notice :text="done" kind="done" />
    <HandoverMade v-if="made" :key="made.handover.id" :made="made" @hide="made = undefined" />
    <div v-if="archive" class="finding note mt-3" role="status">
      {{ archive.name }} is saved. Its passphrase:
      <span class="mono">{{ archive.passphrase }}</span>
      <div class="soft">Send it another way than the archive. It cannot be shown again.</div>
      <button type="button" class="linklike mt-1" @click="archive = undefined">Hide</button>
    </div>
    <table v-if="list.length" class="grid-table stack mt-3">
      <thead>
        <tr>
          <th scope="col">Made</th>
          <th scope="col">State</th>
          <th scope="col">Uses</th>
          <th scope="col">Expires</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="h in list" :key="h.id">
          <td>{{ moment(h.created) }} by {{ h.operator }}</td>
          <td data-label="State">
            <span class="tag" :class="stateLooks[h.state] ?? 'plain'">{{ h.state }}</span>
          </td>
          <td data-label="Uses">{{ h.uses }} of {{ h.max_uses }}</td>
          <td data-label="Expires">{{ moment(h.expires) }}</td>
          <td class="text-nowrap">
            <BButton
              size="sm"
              class="alters me-2"
              variant="outline-secondary"
              :disabled="busy"
              @click="reissue(h.id)"
              >Reissue</BButton
            >
            <BButton
              v-if="!isClosed(h)"
              size="sm"
              class="alters"
              variant="outline-danger"
              :disabled="busy"
              @click="recall(h.id)"
              >Recall</BButton
            >
          </td>
        </tr>
      </tbody>
    </table>
    <p v-for="s in seen" :key="s.gateway_id" class="mt-3 mb-0">
      <span class="tag fine">connected</span> Seen through {{ s.gateway }} as
      <span class="mono">{{ s.address }}</span>, last on {{ moment(s.last) }}, first on
      {{ moment(s.first) }}.
    </p>
  </section>
</template>
