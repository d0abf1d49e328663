<script setup lang="ts">
// What is set for a profile instead of being planned.
import { onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { choices } from '../../api/records'
import { profiles as profileRecords } from '../profiles'
import { patterns as patternRecords } from '../patterns'
import { gateways as gatewayRecords } from '../gateways'
import Field from '../../parts/Field.vue'
import RecordForm from '../../parts/RecordForm.vue'
import RemoveButton from '../../parts/RemoveButton.vue'
import { offers } from '../../parts/offers'
import { useForm } from '../../parts/useForm'

const props = defineProps<{ planned: Schemas['Planned'] }>()
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
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

function fill() {
  const w = props.planned.profile.preferences
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
    pattern_id: props.planned.profile.pattern_id ?? '',
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
watch(() => props.planned.profile.version, fill, { immediate: true })
onMounted(() =>
  preferences.run(async () => {
    const query = { filter: [`person_id:${props.planned.person_id}`], limit: 100 }
    const held = await ask(api.GET('/api/v1/accounts', { params: { query } }))
    accounts.value = held.items.map((a) => ({ value: a.id, text: a.login }))
    patterns.value = await choices(patternRecords)
    const own = props.planned.profile.gateway_id
    gateways.value = (await choices(gatewayRecords)).filter((g) => g.value !== own)
  }, ''),
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
    await profileRecords.change(props.planned.profile.id, props.planned.profile.version, {
      preferences: kept,
      pattern_id,
    })
    emit('changed')
  })
}
const remove = () => profileRecords.remove(props.planned.profile.id)
</script>

<template>
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
        <Field v-model="preferences.draft.reconnect" kind="check" label="Reconnect automatically" />
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
