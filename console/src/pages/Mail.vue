<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, ask, seen, type ListQuery, type Schemas } from '../api/client'
import Field from '../parts/Field.vue'
import ListTable from '../parts/ListTable.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import RecordForm from '../parts/RecordForm.vue'
import WebhookPanel from '../parts/WebhookPanel.vue'
import { useSession } from '../api/session'
import { useForm } from '../parts/useForm'
import { exact } from '../parts/times'
import { count } from '../words'

const session = useSession()
const form = useForm({
  ...{
    server: '',
    port: 0,
    security: 'starttls',
    login: '',
    password: '',
    from: '',
    authority: '',
  },
  ...{ reminders: [] as string[], remove_password: false },
})
const { draft, wrong, fill, run } = form
const set = ref(false)
const version = ref(0)
const loaded = ref(false)
const to = ref('')
const trying = useForm({})
const changes = ref(0)

function show(m: Schemas['Mail']) {
  const way = {
    server: m.server,
    port: m.port ?? 0,
    security: m.security ?? 'starttls',
    authority: m.authority ?? '',
  }
  const ends = { from: m.from ?? '', reminders: m.reminders ?? [], login: m.login ?? '' }
  fill({ ...way, ...ends, password: '', remove_password: false })
  set.value = m.password_set
  version.value = m.version
  loaded.value = true
}
onMounted(() => run(async () => show(await ask(api.GET('/api/v1/mail'))), ''))
async function save() {
  await run(async () => {
    const { password, ...rest } = draft
    const body = { ...rest, port: Number(rest.port ?? 0), ...(password ? { password } : {}) }
    const sent = body as Schemas['MailInputBody']
    show(await ask(api.PUT('/api/v1/mail', { ...seen(version.value), body: sent })))
  })
}
async function tryIt() {
  await trying.run(async () => {
    await ask(api.POST('/api/v1/mail/tests', { body: { to: to.value } }))
  }, `The server accepted the email to ${to.value}.`)
}
const sending = useForm({})
async function sendNow() {
  let n = 0
  const well = await sending.run(async () => {
    n = (await ask(api.POST('/api/v1/mail/deliveries'))).waiting
  }, '')
  if (well)
    sending.done.value = n
      ? count(n, 'email is being sent.', 'emails are being sent.')
      : 'No email is queued.'
  window.setTimeout(() => changes.value++, 1500)
}
const columns = [
  { key: 'created', text: 'Made', sort: 'created' },
  { key: 'to', text: 'To' },
  { key: 'subject', text: 'Subject' },
  { key: 'state', text: 'State' },
]
const looks: Record<string, string> = { sent: 'fine', waiting: 'warning', failed: 'error' }
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/mail/queue', { params: { query }, signal }))
</script>

<template>
  <PageHead title="Mail" />
  <p class="soft">
    Emails are sent through your mail server, over TLS only. Their text is sealed until they are
    sent, and deleted then.
  </p>
  <Notice v-if="!loaded" :text="wrong" />
  <RecordForm v-if="loaded" class="panel mb-4" :form="form" button="Save" @save="save">
    <div class="columns">
      <Field
        v-model="draft.server"
        label="Mail server"
        pointer="/server"
        help="Host name. Empty sends no emails."
      />
      <Field
        v-model="draft.security"
        kind="choice"
        label="TLS"
        pointer="/security"
        :choices="[
          { value: 'starttls', text: 'STARTTLS' },
          { value: 'tls', text: 'Implicit TLS' },
        ]"
      />
      <Field
        v-model="draft.port"
        kind="number"
        label="Port"
        pointer="/port"
        help="0 means 587, or 465 with implicit TLS."
      />
      <Field v-model="draft.from" label="Sender" pointer="/from" help="Email address." />
      <Field v-model="draft.login" label="Login" pointer="/login" />
      <Field
        v-model="draft.password"
        kind="secret"
        label="Password"
        pointer="/password"
        :help="set ? 'A password is stored. Leave this empty to keep it.' : ''"
      />
      <Field
        v-model="draft.reminders"
        kind="list"
        label="Recipients of expiry reminders"
        pointer="/reminders"
        help="Email addresses, one per line; reminders come 60, 30 and 7 days ahead."
      />
      <Field
        v-model="draft.authority"
        kind="pem"
        label="CA of the server's certificate"
        pointer="/authority"
        help="PEM. Empty trusts the system's CAs."
      />
    </div>
    <Field v-if="set" v-model="draft.remove_password" kind="check" label="Remove the password" />
  </RecordForm>
  <form v-if="loaded && draft.server" class="panel mb-4" novalidate @submit.prevent="tryIt">
    <div class="d-flex flex-wrap gap-2 align-items-end">
      <div>
        <label class="form-label" for="to">Send a test email</label>
        <BFormInput id="to" v-model="to" type="email" placeholder="ada@skerryline.example" />
      </div>
      <BButton
        class="alters"
        type="submit"
        variant="outline-secondary"
        :disabled="trying.busy.value"
        >Try</BButton
      >
    </div>
    <div class="mt-2">
      <Notice
        :text="trying.errors.value['/server'] ?? trying.errors.value['/to'] ?? trying.wrong.value"
      />
      <Notice :text="trying.done.value" kind="done" />
    </div>
  </form>
  <div class="d-flex flex-wrap gap-3 align-items-center mb-2">
    <h2 class="mb-0 me-auto">Emails</h2>
    <BButton
      v-if="draft.server"
      class="alters"
      variant="outline-secondary"
      :disabled="sending.busy.value"
      @click="sendNow"
      >Send queued emails now</BButton
    >
  </div>
  <Notice :text="sending.wrong.value" /><Notice :text="sending.done.value" kind="done" />
  <ListTable :key="changes" noun="emails" :columns="columns" :load="load" first="created">
    <template #cell="{ row, column }">
      <span v-if="column === 'created'" class="text-nowrap">{{ exact(row.created) }}</span>
      <template v-else-if="column === 'to'">{{ row.to }}</template>
      <template v-else-if="column === 'subject'">{{ row.subject }}</template>
      <template v-else>
        <span class="tag" :class="looks[row.state]">{{ row.state }}</span>
        <span v-if="row.problem" class="soft small ms-2">{{ row.problem }}</span>
      </template>
    </template>
    <template #empty>No emails yet.</template>
  </ListTable>
  <WebhookPanel v-if="session.may('owner')" />
</template>
