<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type Finding, type Schemas, ServiceError } from '../../api/client'
import { choices } from '../../api/records'
import { profiles as profileRecords } from '../profiles'
import { patterns as patternRecords } from '../patterns'
import { gateways as gatewayRecords } from '../gateways'
import AgreementList from '../../parts/AgreementList.vue'
import Field from '../../parts/Field.vue'
import ChainView from '../../parts/ChainView.vue'
import FindingBox from '../../parts/FindingBox.vue'
import OverridePanel from '../../parts/OverridePanel.vue'
import HandoverPanel from '../../parts/HandoverPanel.vue'
import Notice from '../../parts/Notice.vue'
import PageHead from '../../parts/PageHead.vue'
import ParcelList from '../../parts/ParcelList.vue'
import RehearsalPanel from '../../parts/RehearsalPanel.vue'
import RecordForm from '../../parts/RecordForm.vue'
import RemoveButton from '../../parts/RemoveButton.vue'
import TallyTags from '../../parts/TallyTags.vue'
import { offers } from '../../parts/offers'
import WaySteps from '../../parts/WaySteps.vue'
import { useForm } from '../../parts/useForm'

const props = defineProps<{ id: string }>()
const router = useRouter()
const planned = ref<Schemas['Planned']>()
const files = ref<Schemas['ShownFile'][]>([])
const name = ref('')
const byHand = ref(false)
const revealed = ref(false)
const unfit = ref('')
const accounts = ref<{ value: string; text: string }[]>([])
const gateways = ref<{ value: string; text: string }[]>([])
const patterns = ref<{ value: string; text: string }[]>([])
const preferences = useForm({
  ...{
    name: '',
    account_id: '',
    tunnel: '',
    password: '',
    certificate_passphrase: '',
    scope: '',
    fallback_id: '',
    second_to: '',
  },
  ...{ protocol: '', format: '', pattern_id: '', auth: '', transport: '', ipv6: '', connect: '' },
  ...{ routes: [] as string[], dns: [] as string[], domains: [] as string[], reconnect: false },
  demand: { domains: [] as string[], networks: [] as string[], suffixes: [] as string[] },
})
const page = useForm({})
const path = { path: { id: props.id } }

async function plan() {
  planned.value = await ask(api.GET('/api/v1/profiles/{id}/plan', { params: path }))
  const w = planned.value.profile.preferences
  preferences.fill({
    name: w.name ?? '',
    account_id: w.account_id ?? '',
    tunnel: w.tunnel ?? '',
    password: w.password ?? '',
    certificate_passphrase: w.certificate_passphrase ?? '',
    scope: w.scope ?? '',
    fallback_id: w.fallback_id ?? '',
    second_to: w.second_to ?? '',
    protocol: w.protocol ?? '',
    format: w.format ?? '',
    pattern_id: planned.value.profile.pattern_id ?? '',
    auth: w.auth ?? '',
    transport: w.transport ?? '',
    ipv6: w.ipv6 ?? '',
    connect: w.connect ?? '',
    routes: w.routes ?? [],
    dns: w.dns ?? [],
    domains: w.domains ?? [],
    reconnect: w.reconnect ?? false,
    demand: {
      domains: w.demand?.domains ?? [],
      networks: w.demand?.networks ?? [],
      suffixes: w.demand?.suffixes ?? [],
    },
  })
}
async function preview() {
  const params = { ...path, query: { by_hand: byHand.value } }
  unfit.value = ''
  try {
    const call = revealed.value
      ? api.POST('/api/v1/profiles/{id}/secret-preview', { params })
      : api.GET('/api/v1/profiles/{id}/preview', { params })
    files.value = (await ask<Schemas['ItemsShownFile']>(call)).items
    if (!files.value.some((f) => f.name === name.value)) name.value = files.value[0]?.name ?? ''
  } catch (e) {
    files.value = []
    unfit.value =
      e instanceof ServiceError && e.findings[0]
        ? `${e.findings[0].found}. ${e.findings[0].fix}`
        : (e as Error).message
  }
}
onMounted(() =>
  page.run(async () => {
    await plan()
    await preview()
    const held = await ask(
      api.GET('/api/v1/accounts', {
        params: { query: { filter: [`person_id:${planned.value!.person_id}`], limit: 100 } },
      }),
    )
    accounts.value = held.items.map((a) => ({ value: a.id, text: a.login }))
    patterns.value = await choices(patternRecords)
    const own = planned.value!.profile.gateway_id
    gateways.value = (await choices(gatewayRecords)).filter((g) => g.value !== own)
  }, ''),
)
watch([byHand, revealed], () => void preview())

const shown = computed(() => files.value.find((f) => f.name === name.value))
const fields = computed(() => new Set(planned.value?.choices.map((c) => c.field)))
// A finding stands beside the choice that it concerns; where nothing was set for its
// own field, beside the choice that its field belongs to.
const belongs: Record<string, string[]> = {
  password: ['keep'],
  realm: ['login', 'account'],
  login: ['account'],
  release: ['protocol'],
  platform: ['protocol'],
  routes: ['tunnel'],
  pool: ['routes', 'tunnel'],
  dns: ['tunnel'],
  domains: ['dns', 'tunnel'],
  behind_nat: ['server'],
  auth: ['protocol'],
  identity: ['auth', 'protocol'],
  authority: ['auth', 'protocol'],
  remote_id: ['server'],
  local_id: ['auth'],
  mppe: ['ppp'],
  port: ['server'],
  remotes: ['server'],
  control_key: ['remotes'],
  server_name: ['remotes', 'server'],
  min_tls: ['ciphers'],
  digest: ['ciphers'],
  ipv6: ['tunnel'],
  group: ['auth'],
  psk: ['auth'],
}
const row = (f: Finding) =>
  [f.field, ...(belongs[f.field] ?? [])].find((field) => fields.value.has(field))
const beside = (field: string) => planned.value?.findings.filter((f) => row(f) === field) ?? []
const apart = computed<Finding[]>(() => planned.value?.findings.filter((f) => !row(f)) ?? [])
// What a file cannot carry can still be typed.
const blocked = computed(() =>
  planned.value?.findings.some(
    (f) => f.severity === 'error' && !(byHand.value && f.rule === 'format-unfit'),
  ),
)
const titles: Record<string, string> = {
  ...{ 'eap-tls': 'certificate, by EAP-TLS', certificate: 'certificate', psk: 'pre-shared key' },
  ...{ 'eap-mschapv2': 'login and password, by EAP-MSCHAPv2', password: 'login and password' },
  'certificate-password': 'certificate, then login and password',
  ...{ 'by-hand': 'by hand', 'at-sign-in': 'at sign-in', 'on-demand': 'on demand' },
  ...{ udp: 'UDP', tcp: 'TCP' },
  ...Object.fromEntries(offers.map((o) => [o.key, o.text])),
  ...{ carried: 'through the tunnel', refused: 'blocked', left: 'outside the tunnel' },
}
const choice = (values: string[]) => [
  { value: '', text: 'Automatic' },
  ...values.map((v) => ({ value: v, text: titles[v] ?? v })),
]

const ways = ['eap-tls', 'certificate', 'eap-mschapv2', 'psk', 'certificate-password', 'password']
const lists = [
  { key: 'routes', label: 'Networks' },
  { key: 'dns', label: 'DNS servers' },
  { key: 'domains', label: 'Internal domains' },
] as const
const conditions = [
  { key: 'domains', label: 'When looking up names in' },
  { key: 'networks', label: 'Except in the wireless networks' },
  { key: 'suffixes', label: 'Except where the DNS suffix is' },
] as const

async function save() {
  await preferences.run(async () => {
    const { pattern_id, ...kept } = preferences.draft
    await profileRecords.change(props.id, planned.value!.profile.version, {
      preferences: kept,
      pattern_id,
    })
    await plan()
    await preview()
  })
}
const remove = () => profileRecords.remove(props.id)
</script>

<template>
  <PageHead :title="planned?.title ?? 'Profile'" back="/profiles" back-text="Profiles">
    <TallyTags v-if="planned" :tally="planned.tally" />
  </PageHead>
  <Notice :text="page.wrong.value" />
  <template v-if="planned">
    <p class="soft">
      {{ planned.release }} ·
      <RouterLink :to="`/devices/${planned.profile.device_id}`">device</RouterLink> ·
      <RouterLink :to="`/people/${planned.person_id}`">person</RouterLink> ·
      <RouterLink :to="`/gateways/${planned.profile.gateway_id}`">gateway</RouterLink> ·
      <RouterLink :to="`/explain?profile=${planned.profile.id}`">explain a failure</RouterLink>
      <template v-if="planned.profile.pattern_id">
        · pattern
        <RouterLink :to="`/patterns/${planned.profile.pattern_id}`">{{
          planned.pattern
        }}</RouterLink>
      </template>
    </p>
    <WaySteps :planned="planned" />
    <p v-for="s in planned.switchovers" :key="s.id" class="finding note">
      Planned with the new value of
      <RouterLink :to="`/switchovers/${s.id}`">{{ s.name }}</RouterLink>; it is on the gateway's
      record after the cut-off.
    </p>
    <section class="panel mb-4" aria-labelledby="plan">
      <h2 id="plan">Plan</h2>
      <FindingBox
        v-for="f in apart"
        :key="f.rule + f.found"
        :finding="f"
        :person="planned.person_id"
        ><OverridePanel :id="id" :finding="f" @changed="plan"
      /></FindingBox>
      <dl class="plan mb-0">
        <div v-for="c in planned.choices" :key="c.field">
          <dt>{{ c.title }}</dt>
          <dd>
            <span class="mono value">{{ c.value }}</span>
            <div class="soft small">{{ c.reason }}</div>
            <FindingBox
              v-for="f in beside(c.field)"
              :key="f.rule + f.found"
              :finding="f"
              :person="planned.person_id"
              ><OverridePanel :id="id" :finding="f" @changed="plan"
            /></FindingBox>
          </dd>
        </div>
      </dl>
      <template v-if="planned.agreements.length">
        <h3 class="fs-6 mt-3">Both sides negotiate</h3>
        <AgreementList :agreements="planned.agreements" />
      </template>
      <template v-if="planned.passed.length">
        <h3 class="fs-6 mt-3">Not chosen</h3>
        <ul class="mb-0">
          <li v-for="p in planned.passed" :key="p.protocol">
            {{ offers.find((o) => o.key === p.protocol)?.text }}:
            <span class="soft">{{ p.reason }}</span>
          </li>
        </ul>
      </template>
    </section>

    <section v-if="planned.chains.length" class="panel mb-4" aria-labelledby="chains">
      <h2 id="chains">Certificates</h2>
      <details v-for="(links, i) in planned.chains" :key="i" :open="links.some((l) => l.fault)">
        <summary>Chain of {{ links[0]?.subject }}</summary>
        <ChainView class="mt-2" :links="links" />
      </details>
    </section>

    <section class="panel mb-4" aria-labelledby="files">
      <div class="d-flex flex-wrap gap-3 align-items-center mb-2">
        <h2 id="files" class="mb-0">Files</h2>
        <BFormCheckbox v-model="byHand" switch>Card for manual setup</BFormCheckbox>
        <BButton
          class="alters ms-auto"
          size="sm"
          variant="outline-secondary"
          :aria-pressed="revealed"
          @click="revealed = !revealed"
          >{{ revealed ? 'Hide secrets' : 'Show secrets (recorded in the audit log)' }}</BButton
        >
      </div>
      <Notice :text="unfit" />
      <template v-if="shown">
        <div class="d-flex flex-wrap gap-2 mb-2" role="group" aria-label="File format">
          <BButton
            v-for="f in files"
            :key="f.name"
            size="sm"
            :variant="f.name === name ? 'primary' : 'outline-secondary'"
            :aria-pressed="f.name === name"
            @click="name = f.name"
            >{{ f.name }}</BButton
          >
        </div>
        <p class="soft small mb-2">{{ shown.purpose }}</p>
        <iframe
          v-if="shown.name.endsWith('.html')"
          class="card-frame"
          sandbox=""
          :srcdoc="shown.text"
          title="Card as the person sees it"
        />
        <pre v-else class="file mono" tabindex="0" :aria-label="`Content of ${shown.name}`">{{
          shown.text
        }}</pre>
      </template>
    </section>

    <ParcelList :id="id" :blocked="!!blocked" :by-hand="byHand" :stamp="planned.profile.version" />

    <RehearsalPanel :profile="id" />

    <HandoverPanel :profile="id" />

    <section class="panel mb-4" aria-labelledby="preferences">
      <h2 id="preferences">Set manually</h2>
      <p class="soft">Everything else is planned automatically, with the reasons above.</p>
      <RecordForm :form="preferences" button="Save and plan again" @save="save">
        <div class="columns">
          <Field
            v-model="preferences.draft.name"
            label="Connection name"
            pointer="/preferences/name"
          />
          <Field
            v-model="preferences.draft.account_id"
            kind="choice"
            label="Account"
            pointer="/preferences/account_id"
            :choices="[{ value: '', text: 'Automatic' }, ...accounts]"
          />
          <Field
            v-model="preferences.draft.tunnel"
            kind="choice"
            label="Tunnel"
            pointer="/preferences/tunnel"
            :choices="choice(['full', 'split'])"
          />
          <Field
            v-model="preferences.draft.password"
            kind="choice"
            label="Password"
            pointer="/preferences/password"
            :choices="choice(['saved', 'asked'])"
          />
          <Field
            v-model="preferences.draft.certificate_passphrase"
            kind="choice"
            label="Passphrase of the device's certificate"
            pointer="/preferences/certificate_passphrase"
            :choices="choice(['saved', 'asked'])"
            help="In Apple profiles: in the file, or prompted for at installation."
          />
          <Field
            v-model="preferences.draft.scope"
            kind="choice"
            label="For"
            pointer="/preferences/scope"
            :choices="choice(['person', 'machine'])"
          />
          <Field
            v-model="preferences.draft.protocol"
            kind="choice"
            label="Protocol"
            pointer="/preferences/protocol"
            :choices="choice(['ikev2', 'tls', 'sstp', 'l2tp', 'pptp'])"
          />
          <Field
            v-model="preferences.draft.auth"
            kind="choice"
            label="Authentication"
            pointer="/preferences/auth"
            :choices="choice(ways)"
            help="Such as a password even if the device has a certificate."
          />
          <Field
            v-model="preferences.draft.transport"
            kind="choice"
            label="Transport of the TLS tunnel"
            pointer="/preferences/transport"
            :choices="choice(['udp', 'tcp'])"
          />
          <Field
            v-model="preferences.draft.format"
            kind="choice"
            label="File"
            pointer="/preferences/format"
            :choices="choice(planned.formats)"
          />
          <Field
            v-model="preferences.draft.pattern_id"
            kind="choice"
            label="Pattern"
            pointer="/pattern_id"
            :choices="[{ value: '', text: 'None' }, ...patterns]"
          />
          <Field
            v-model="preferences.draft.ipv6"
            kind="choice"
            label="IPv6"
            pointer="/preferences/ipv6"
            :choices="choice(['carried', 'refused', 'left'])"
          />
          <Field
            v-model="preferences.draft.connect"
            kind="choice"
            label="Connect"
            pointer="/preferences/connect"
            :choices="choice(['by-hand', 'at-sign-in', 'on-demand', 'always'])"
          />
          <Field
            v-for="l in lists"
            :key="l.key"
            v-model="preferences.draft[l.key]"
            kind="list"
            :label="l.label"
            :pointer="`/preferences/${l.key}`"
          />
          <template v-if="preferences.draft.connect === 'on-demand'">
            <Field
              v-for="l in conditions"
              :key="l.key"
              v-model="preferences.draft.demand[l.key]"
              kind="list"
              :label="l.label"
              :pointer="`/preferences/demand/${l.key}`"
            />
          </template>
          <Field
            v-model="preferences.draft.fallback_id"
            kind="choice"
            label="Second gateway"
            pointer="/preferences/fallback_id"
            :choices="[{ value: '', text: 'none' }, ...gateways]"
            :help="
              'Used when this one does not respond: from the same file if the format supports ' +
              'it, else by its own profile.'
            "
          />
          <Field
            v-model="preferences.draft.second_to"
            kind="choice"
            label="Fallback for"
            pointer="/preferences/second_to"
            :choices="[{ value: '', text: 'none' }, ...gateways]"
          />
          <Field
            v-model="preferences.draft.reconnect"
            kind="check"
            label="Reconnect automatically"
          />
        </div>
        <template #more>
          <RemoveButton
            noun="profile"
            :name="planned.title"
            :remove="remove"
            @removed="router.push('/profiles')"
          />
        </template>
      </RecordForm>
    </section>
  </template>
</template>

<style scoped>
.plan > div {
  display: grid;
  grid-template-columns: 11rem minmax(0, 1fr);
  gap: 0.25rem 1rem;
  padding: 0.6rem 0;
  border-bottom: 1px solid var(--wi-line);
}
.plan > div:last-child {
  border: 0;
}
.plan dt {
  font-weight: 600;
}
.plan dd {
  margin: 0;
}
.plan .value {
  white-space: pre-wrap;
}
.card-frame {
  width: 100%;
  height: 34rem;
  border: 1px solid var(--wi-line);
  border-radius: 0.5rem;
  background: #fff;
}
@media (max-width: 575px) {
  .plan > div {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
