<script setup lang="ts">
// Hands over to all people of a group, as a job; links and passcodes are read apart, for a day.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import JobProgress from './JobProgress.vue'
import LinksWarning from './LinksWarning.vue'
import Notice from './Notice.vue'
import { save } from './files'
import { moment } from './times'
import { useForm } from './useForm'
import { useJob } from './useJob'

const emit = defineEmits<{ made: [] }>()
const { draft, wrong, busy, run } = useForm({
  group: '',
  days: 7,
  uses: 3,
  link: 'mail' as 'mail' | 'shown',
})
const ways = [
  { value: 'mail', text: 'Sent by email' },
  { value: 'shown', text: 'Kept here for one day' },
]
const past = ref<Schemas['Job'][]>([])
const slips = ref<{ half: 'link' | 'passcode'; list: Schemas['Slip'][] }>()
const archive = ref<Schemas['Archive']>()
const { job, lost, follow } = useJob(() => {
  emit('made')
  void run(look, '')
})
async function look() {
  const query = { kind: 'hand-over', limit: 100 }
  const all = (await ask(api.GET('/api/v1/jobs', { params: { query } }))).items
  const day = Date.now() - 86_400_000
  past.value = all.filter((j) => j.state !== 'running' && new Date(j.created).getTime() > day)
}
onMounted(() => run(look, ''))
async function begin() {
  await run(async () => {
    const body = {
      ...draft,
      days: Number(draft.days),
      uses: Number(draft.uses),
      passcode: 'sheet' as const,
    }
    follow(await ask(api.POST('/api/v1/handovers/batches', { body })))
  }, '')
}
async function read(id: string, half: 'link' | 'passcode') {
  await run(async () => {
    const answer = await ask(
      api.POST('/api/v1/handovers/batches/{id}/{half}', { params: { path: { id, half } } }),
    )
    slips.value = { half, list: answer.items }
  }, '')
}
async function pack() {
  await run(async () => {
    archive.value = await ask(api.POST('/api/v1/archives', { body: { group: draft.group } }))
    save(archive.value.name, archive.value.content)
  }, '')
}
const results = (j: Schemas['Job']) =>
  Object.entries(j.result)
    .map(([what, n]) => `${n} ${what}`)
    .join(', ')
const print = () => window.print()
</script>

<template>
  <section class="panel" aria-labelledby="group-head">
    <h2 id="group-head">Hand over to a group</h2>
    <LinksWarning />
    <form class="alters" novalidate @submit.prevent="begin">
      <div class="columns">
        <Field v-model="draft.group" label="Group" pointer="/group" required />
        <Field v-model="draft.link" kind="choice" label="Links" pointer="/link" :choices="ways" />
        <Field v-model="draft.days" kind="number" label="Days until they expire" pointer="/days" />
        <Field v-model="draft.uses" kind="number" label="Maximum uses each" pointer="/uses" />
      </div>
      <p class="soft">
        Outdated parcels are built first. Read the passcodes here afterwards, apart from the links.
      </p>
      <div class="d-flex flex-wrap gap-2">
        <BButton
          class="alters"
          type="submit"
          variant="primary"
          :disabled="busy || job?.state === 'running'"
          >Hand over</BButton
        >
        <BButton variant="outline-secondary" :disabled="busy" @click="pack"
          >Save as an encrypted archive</BButton
        >
      </div>
    </form>
    <Notice :text="wrong" />
    <JobProgress v-if="job" v-model="job" class="mt-3" of="profiles" :lost="lost" />
    <div v-if="archive" class="finding note mt-3" role="status">
      {{ archive.name }} is saved, with {{ archive.profiles }} parcels. Its passphrase:
      <span class="mono">{{ archive.passphrase }}</span>
      <div v-if="archive.left.length">Left out: {{ archive.left.join(', ') }}.</div>
      <button type="button" class="linklike mt-1" @click="archive = undefined">Hide</button>
    </div>
    <template v-if="past.length">
      <h3 class="mt-4">Last 24 hours</h3>
      <ul class="plain-list">
        <li v-for="j in past" :key="j.id" class="mb-2">
          {{ j.title }}, {{ moment(j.created) }}: {{ results(j) }}
          <span class="text-nowrap alters">
            <BButton
              size="sm"
              class="ms-2"
              variant="outline-secondary"
              @click="read(j.id, 'passcode')"
              >Show passcodes</BButton
            >
            <BButton size="sm" class="ms-2" variant="outline-secondary" @click="read(j.id, 'link')"
              >Show links</BButton
            >
          </span>
        </li>
      </ul>
    </template>
    <div v-if="slips" class="slips mt-3" role="status">
      <p v-if="slips.list.length === 0">
        None: {{ slips.half === 'link' ? 'the links went by mail' : 'they are no longer kept' }}.
      </p>
      <table v-else class="grid-table stack">
        <caption>
          {{
            slips.half === 'link' ? 'Links' : 'Passcodes, for cutting and handing out'
          }}
        </caption>
        <thead>
          <tr>
            <th scope="col">Person</th>
            <th scope="col">Device</th>
            <th scope="col">{{ slips.half === 'link' ? 'Link' : 'Passcode' }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in slips.list" :key="s.handover_id">
            <td>{{ s.person }}</td>
            <td data-label="Device">{{ s.device }}, {{ s.gateway }}</td>
            <td class="mono" :data-label="slips.half">{{ s.link ?? s.passcode }}</td>
          </tr>
        </tbody>
      </table>
      <div class="d-flex gap-3 mt-2 no-print">
        <button v-if="slips.list.length" type="button" class="linklike" @click="print">
          Print
        </button>
        <button type="button" class="linklike" @click="slips = undefined">Hide</button>
      </div>
    </div>
  </section>
</template>
