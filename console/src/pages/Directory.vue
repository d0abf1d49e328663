<script setup lang="ts">
// Where people come from: an LDAP directory that is read, and clients of SCIM that send them.
import { computed, onMounted, ref } from 'vue'
import { api, ask, seen, type Schemas } from '../api/client'
import Field from '../parts/Field.vue'
import JobProgress from '../parts/JobProgress.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import RecordForm from '../parts/RecordForm.vue'
import { useForm } from '../parts/useForm'
import { useJob } from '../parts/useJob'
import { exact } from '../parts/times'
import { say } from '../words'

type Settings = Schemas['Directory']

const fields = [
  { key: 'name', label: 'Name', usual: 'cn' },
  { key: 'mail', label: 'Email', usual: 'mail' },
  { key: 'login', label: 'Login', usual: 'uid' },
  { key: 'groups', label: 'Groups', usual: 'memberOf' },
  { key: 'language', label: 'Language', usual: 'preferredLanguage' },
  { key: 'city', label: 'City', usual: 'l' },
  { key: 'country', label: 'Country', usual: 'c' },
]
const form = useForm(
  {
    url: '',
    authority: '',
    bind_dn: '',
    password: '',
    base: '',
    filter: '',
    key_attribute: '',
    attributes: {} as Record<string, string>,
    group_base: '',
    groups: [] as string[],
    every: 0,
    stop_over: 10,
    remove_password: false,
  },
  'directory',
)
const { draft, wrong, fill, run } = form
const stored = ref(false)
const version = ref(0)
const loaded = ref(false)
const state = ref<Schemas['DirectoryState']>()
const reading = useForm({})
const read = ref<Schemas['DirectoryReading']>()
const dry = ref(false)
const origin = computed(() => window.location.origin)
const { job, lost, follow } = useJob(loadState)

function show(d: Settings) {
  fill({
    url: d.url,
    authority: d.authority ?? '',
    bind_dn: d.bind_dn ?? '',
    password: '',
    base: d.base ?? '',
    filter: d.filter ?? '',
    key_attribute: d.key_attribute ?? '',
    attributes: { ...d.attributes },
    group_base: d.group_base ?? '',
    groups: Object.entries(d.groups ?? {}).map(([there, here]) => `${there}=${here}`),
    every: d.every ?? 0,
    stop_over: d.stop_over ?? 0,
    remove_password: false,
  })
  stored.value = d.password_set
  version.value = d.version
  loaded.value = true
}
async function loadState() {
  state.value = await ask(api.GET('/api/v1/directory/state'))
}
onMounted(() =>
  run(async () => {
    show(await ask(api.GET('/api/v1/directory')))
    await loadState()
  }, ''),
)
async function save() {
  await run(async () => {
    const { password, groups, attributes, ...rest } = draft
    const mapped = groups
      .map((line) => line.trim())
      .filter(Boolean)
      .map((line) => {
        const at = line.lastIndexOf('=') // a distinguished name has some before
        return at < 1 ? [line, ''] : [line.slice(0, at), line.slice(at + 1)]
      })
    const body = {
      ...rest,
      every: Number(rest.every ?? 0),
      stop_over: Number(rest.stop_over ?? 0),
      groups: Object.fromEntries(mapped),
      attributes: Object.fromEntries(Object.entries(attributes).filter(([, v]) => v)),
      ...(password ? { password } : {}),
    } as Schemas['DirectoryInputBody']
    show(await ask(api.PUT('/api/v1/directory', { ...seen(version.value), body })))
  })
}
async function readNow(only: boolean) {
  read.value = job.value = undefined
  dry.value = only
  await reading.run(async () => {
    const body = { dry_run: only }
    read.value = await ask(api.POST('/api/v1/directory/readings', { body }))
    if (read.value.job) follow(read.value.job)
  }, '')
  await loadState()
}
const failed = computed(() => Object.values(reading.errors.value).join(' ') || reading.wrong.value)
const outcomes = computed(() => {
  const n = read.value?.import.rows ?? {}
  return say(
    '{0} to add, {1} to change, {2} the same, {3} wrong',
    n.add ?? 0,
    n.change ?? 0,
    n.same ?? 0,
    n.wrong ?? 0,
  )
})
</script>

<template>
  <PageHead title="Directory" />
  <p class="soft">
    People, their logins and their groups can come from an LDAP directory, which is only read, or
    from an identity provider that sends them by SCIM. People who are no longer there are listed for
    offboarding, and never removed.
  </p>
  <Notice v-if="!loaded" :text="wrong" />
  <section v-if="loaded && draft.url" class="panel mb-4" aria-labelledby="last">
    <h2 id="last">Last reading</h2>
    <p v-if="!state?.at">The directory has not been read yet.</p>
    <p v-else>
      {{ exact(state.at) }}: {{ state.entries }} entries. {{ state.people }}
      {{ state.people === 1 ? 'person comes' : 'people come' }} from the directory.
      <RouterLink v-if="state.missing" to="/people?source=missing"
        >{{ state.missing }} of them {{ state.missing === 1 ? 'is' : 'are' }} no longer in
        it.</RouterLink
      >{{ ' ' }}
      <RouterLink v-if="state.import_id" :to="`/imports?id=${state.import_id}`"
        >What was imported</RouterLink
      >
    </p>
    <Notice :text="state?.problem ?? ''" />
    <div class="d-flex flex-wrap gap-2">
      <BButton
        class="alters"
        variant="primary"
        :disabled="reading.busy.value"
        @click="readNow(false)"
        >Read now</BButton
      >
      <BButton
        class="alters"
        variant="outline-secondary"
        :disabled="reading.busy.value"
        @click="readNow(true)"
        >Show what would change</BButton
      >
    </div>
    <div class="mt-3"><Notice :text="failed" /></div>
    <div v-if="read" class="mt-3" role="status">
      <p class="mb-2">
        {{ read.entries }} entries: {{ outcomes }}.
        <RouterLink v-if="read.import.id" :to="`/imports?id=${read.import.id}`">{{
          dry ? 'Look at each, and import them' : 'Look at each'
        }}</RouterLink>
      </p>
      <p v-if="read.missing" class="mb-0">
        No longer in the directory: {{ read.gone.join(', ')
        }}<template v-if="read.missing > read.gone.length"> …</template>
      </p>
    </div>
    <JobProgress v-if="job" v-model="job" class="mt-3" of="entries" :lost="lost" />
  </section>
  <RecordForm v-if="loaded" class="panel mb-4" :form="form" button="Save" @save="save">
    <h2>LDAP directory</h2>
    <div class="columns">
      <Field v-model="draft.url" label="Address" pointer="/url" described />
      <Field v-model="draft.base" label="Base" pointer="/base" described />
      <Field v-model="draft.bind_dn" label="Signs in as" pointer="/bind_dn" described />
      <Field
        v-model="draft.password"
        kind="secret"
        label="Password"
        pointer="/password"
        :help="stored ? 'A password is stored. Leave this empty to keep it.' : ''"
      />
      <Field v-model="draft.filter" label="Filter" pointer="/filter" described />
      <Field
        v-model="draft.key_attribute"
        label="Identifying attribute"
        pointer="/key_attribute"
        described
      />
      <Field
        v-model="draft.every"
        kind="number"
        label="Minutes between readings"
        pointer="/every"
        help="0 reads only on demand."
      />
      <Field
        v-model="draft.stop_over"
        kind="number"
        label="Stop if more than … % have left"
        pointer="/stop_over"
        help="Nothing is changed then: the base or the permissions may be wrong."
      />
      <Field
        v-model="draft.authority"
        kind="pem"
        label="CA of the server's certificate"
        pointer="/authority"
        described
      />
    </div>
    <fieldset>
      <legend class="fs-6">Attributes</legend>
      <p class="soft small">Which attribute has which field; an empty one is not taken over.</p>
      <div class="columns">
        <Field
          v-for="f in fields"
          :key="f.key"
          v-model="draft.attributes[f.key]"
          :label="f.label"
          :pointer="`/attributes/${f.key}`"
          :placeholder="f.usual"
        />
      </div>
    </fieldset>
    <div class="columns">
      <Field v-model="draft.group_base" label="Base of groups" pointer="/group_base" described />
      <Field
        v-model="draft.groups"
        kind="list"
        label="Groups"
        pointer="/groups"
        help="There = here, such as Pursers=pursers. Empty takes all groups. One per line."
      />
    </div>
    <Field v-if="stored" v-model="draft.remove_password" kind="check" label="Remove the password" />
  </RecordForm>
  <section v-if="loaded" class="panel" aria-labelledby="scim">
    <h2 id="scim">SCIM 2.0</h2>
    <p class="mb-0">
      An identity provider sends people and groups to <code>{{ origin }}/scim/v2</code>, with a
      <RouterLink to="/me">token</RouterLink> of an operator as its bearer token.
    </p>
  </section>
</template>
