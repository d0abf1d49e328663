<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../api/client'
import { useSession } from '../api/session'
import Field from '../parts/Field.vue'
import Notice from '../parts/Notice.vue'
import PasskeyPanel from '../parts/PasskeyPanel.vue'
import PageHead from '../parts/PageHead.vue'
import RecordForm from '../parts/RecordForm.vue'
import { roles } from '../parts/roles'
import { FieldError, useForm } from '../parts/useForm'
import { moment } from '../parts/times'

const session = useSession()
const router = useRouter()
const must = ref(session.operator?.must_change ?? false)
const password = useForm({ old: '', password: '', again: '' })
const factor = useForm({ code: '', password: '' })
const token = useForm({ name: '', role: 'auditor', days: 90, addresses: [] as string[] })
const offered = ref<Schemas['Factor']>()
const made = ref<Schemas['NewToken']>()
const sessions = ref<Schemas['Session'][]>([])
const ending = useForm({})

async function look() {
  if (must.value) return
  sessions.value = (await ask(api.GET('/api/v1/sessions'))).items
}
onMounted(() => ending.run(look, ''))
async function change() {
  const ok = await password.run(async () => {
    if (password.draft.password !== password.draft.again)
      throw new FieldError('/again', 'The two new passwords differ.')
    const body = { old: password.draft.old, password: password.draft.password }
    await ask(api.PUT('/api/v1/password', { body: body }))
    password.fill({ old: '', password: '', again: '' })
    await session.find()
  }, 'Changed. Your other sessions were ended.')
  if (ok && must.value) {
    must.value = false
    await router.push('/')
  }
}
async function offer() {
  await factor.run(async () => {
    offered.value = await ask(api.POST('/api/v1/second-factor'))
  }, '')
}
async function confirm() {
  await factor.run(async () => {
    await ask(api.PUT('/api/v1/second-factor', { body: { code: factor.draft.code.trim() } }))
    offered.value = undefined
    factor.draft.code = ''
    await session.find()
    await look()
  }, 'The second factor is on.')
}
async function drop() {
  await factor.run(async () => {
    const body = { password: factor.draft.password }
    await ask(api.POST('/api/v1/second-factor/removal', { body }))
    factor.draft.password = ''
    await session.find()
  }, 'The second factor is off.')
}
async function addToken() {
  await token.run(async () => {
    const { name, role, days, addresses } = token.draft
    made.value = await ask(
      api.POST('/api/v1/tokens', { body: { name, role, days: Number(days), addresses } }),
    )
    token.draft.name = ''
    await look()
  }, '')
}
async function end(id: string) {
  await ending.run(async () => {
    await ask(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } }))
    await look()
  }, 'Ended.')
}
const what = (s: Schemas['Session']) =>
  s.name ? `token ${s.name}` : s.kind === 'cookie' ? 'console' : 'command line'
</script>

<template>
  <PageHead title="Your sign-in" />
  <p v-if="must" class="finding warning">
    Your password was set by somebody else. Choose your own to continue.
  </p>
  <div class="columns">
    <RecordForm class="panel mb-4" :form="password" button="Change" @save="change">
      <h2>Password</h2>
      <Field v-model="password.draft.old" kind="secret" label="Current password" pointer="/old" />
      <Field
        v-model="password.draft.password"
        kind="secret"
        label="New password"
        pointer="/password"
        help="At least 15 characters. Four or five unrelated words are easy to remember."
      />
      <Field v-model="password.draft.again" kind="secret" label="Repeat" pointer="/again" />
    </RecordForm>
    <section v-if="!must" class="panel mb-4" aria-labelledby="factor">
      <h2 id="factor">Second factor</h2>
      <template v-if="session.operator?.second_factor">
        <p>A code of your app is required at sign-in.</p>
        <RecordForm :form="factor" button="Turn off" quiet @save="drop">
          <Field
            v-model="factor.draft.password"
            kind="secret"
            label="Password"
            pointer="/password"
          />
        </RecordForm>
      </template>
      <RecordForm v-else-if="offered" :form="factor" button="Turn on" @save="confirm">
        <p>Scan this with your app, or type the key.</p>
        <img
          :src="`data:image/png;base64,${offered.picture}`"
          alt="QR code of the key"
          width="200"
          height="200"
        />
        <p class="mono mt-2">{{ offered.key }}</p>
        <Field v-model="factor.draft.code" label="Current code of the app" pointer="/code" />
      </RecordForm>
      <template v-else>
        <p v-if="session.operator?.must_enrol" class="finding warning">
          Your organisation requires it: set it up to continue.
        </p>
        <p class="soft">A code from an app on your phone that changes every thirty seconds.</p>
        <BButton variant="outline-secondary" :disabled="factor.busy.value" @click="offer"
          >Set up</BButton
        >
      </template>
      <div class="mt-2">
        <Notice :text="factor.wrong.value" /><Notice :text="factor.done.value" kind="done" />
      </div>
    </section>
  </div>
  <PasskeyPanel v-if="!must && !session.operator?.provider" @changed="look" />
  <template v-if="!must">
    <section class="panel mb-4" aria-labelledby="sessions">
      <h2 id="sessions">Your sessions</h2>
      <table class="grid-table stack">
        <thead>
          <tr>
            <th scope="col">What</th>
            <th scope="col">Role</th>
            <th scope="col">From</th>
            <th scope="col">Program</th>
            <th scope="col">Opened</th>
            <th scope="col">Used</th>
            <th scope="col">Expires</th>
            <th scope="col"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in sessions" :key="s.id">
            <td>{{ what(s) }}</td>
            <td data-label="Role">{{ s.role }}</td>
            <td data-label="From" class="mono">
              {{ s.addresses.length ? s.addresses.join(' ') : s.origin }}
            </td>
            <td data-label="Program" class="program" :title="s.client">{{ s.client }}</td>
            <td data-label="Opened">{{ moment(s.created) }}</td>
            <td data-label="Used">{{ s.used ? moment(s.used) : 'never' }}</td>
            <td data-label="Expires">{{ moment(s.expires) }}</td>
            <td>
              <span v-if="s.current" class="tag fine">this session</span>
              <BButton v-else size="sm" variant="outline-danger" @click="end(s.id)">End</BButton>
            </td>
          </tr>
        </tbody>
      </table>
      <div class="mt-2">
        <Notice :text="ending.wrong.value" /><Notice :text="ending.done.value" kind="done" />
      </div>
    </section>
    <RecordForm class="panel" :form="token" button="Create" quiet @save="addToken">
      <h2>Tokens for programs</h2>
      <div class="columns">
        <Field v-model="token.draft.name" label="Name" pointer="/name" required />
        <Field
          v-model="token.draft.role"
          kind="choice"
          label="Role"
          pointer="/role"
          :choices="roles"
        />
        <Field
          v-model="token.draft.days"
          kind="number"
          label="Days until it expires"
          pointer="/days"
          help="At most 365."
        />
        <Field
          v-model="token.draft.addresses"
          kind="list"
          label="Allowed networks"
          pointer="/addresses"
          help="CIDR, one per line. Empty allows any."
        />
      </div>
      <p v-if="made" class="finding note" role="status">
        <span class="mono">{{ made.bearer }}</span> is shown only now. Send it as “Authorization:
        Bearer …”.
      </p>
    </RecordForm>
  </template>
</template>

<style scoped>
.program {
  max-width: 12rem;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
