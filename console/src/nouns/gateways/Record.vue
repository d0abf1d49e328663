<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type Merge, type Schemas } from '../../api/client'
import { gateways } from '../../nouns/gateways'
import AccountField from '../../parts/AccountField.vue'
import Field from '../../parts/Field.vue'
import GatewayCertificate from '../../parts/GatewayCertificate.vue'
import GatewaySide from '../../parts/GatewaySide.vue'
import Notice from '../../parts/Notice.vue'
import OfferForm from '../../parts/OfferForm.vue'
import { emptyOffer, type Draft, type OfferKey, offers, sent, shown } from '../../parts/offers'
import GatewayRehearsals from '../../parts/GatewayRehearsals.vue'
import HistoryList from '../../parts/HistoryList.vue'
import OrderPanel from '../../parts/OrderPanel.vue'
import ProbePanel from '../../parts/ProbePanel.vue'
import PageHead from '../../parts/PageHead.vue'
import RecordForm from '../../parts/RecordForm.vue'
import SampleButton from '../../parts/SampleButton.vue'
import RemoveButton from '../../parts/RemoveButton.vue'
import TabList from '../../parts/TabList.vue'
import TabPanel from '../../parts/TabPanel.vue'
import { useRecord } from '../../parts/useRecord'
import { useTabs } from '../../parts/useTabs'
import { say } from '../../words'
import { told } from '../../told'

const props = defineProps<{ id: string }>()
const router = useRouter()
const { shown: tab } = useTabs('record')

// How people sign in by one protocol; an empty form means as by the others.
interface OwnSignIn {
  form: string
  realm: string
}
const empty = {
  name: '',
  address: '',
  addresses: [] as string[],
  dynamic: false,
  behind_nat: false,
  city: '',
  country: '',
  latitude: null as number | null,
  longitude: null as number | null,
  form: 'login',
  realm: '',
  sign_ins: Object.fromEntries(offers.map((o) => [o.key, { form: '', realm: '' }])) as Record<
    OfferKey,
    OwnSignIn
  >,
  domains: [] as string[],
  dns: [] as string[],
  routes: [] as string[],
  pool: [] as string[],
  announced: [] as string[],
  egress: [] as string[],
  hosts: [] as string[],
  note: '',
  rehearse_as: '',
  rehearse_every: 0 as number | null,
  probe_address: '',
  probe_ports: [] as string[],
  load_share: 0 as number | null,
  on: { ikev2: false, tls: false, sstp: false, l2tp: true, pptp: false } as Record<
    OfferKey,
    boolean
  >,
  offers: Object.fromEntries(offers.map((o) => [o.key, emptyOffer(o.key)])) as Record<
    OfferKey,
    Draft
  >,
}
const { form, draft, row, fresh, wrong, load, reload, save, remove } = useRecord({
  of: gateways,
  id: () => props.id,
  empty,
  draftOf,
  body,
  loaded: look,
})
// Many offers are opened one by one.
const folded = computed(() => Object.values(row.value?.offers ?? {}).filter(Boolean).length > 2)
const parts = computed(() => [
  { key: 'record', text: 'Record' },
  { key: 'offers', text: 'Offers', count: otherwise.value.length },
  { key: 'keys', text: 'Users and keys', off: fresh.value },
  { key: 'probe', text: 'Probe', off: fresh.value },
  { key: 'rehearsals', text: 'Rehearsals', off: fresh.value },
  { key: 'history', text: 'History', off: fresh.value },
])
const forms = ['login', 'login@realm', 'realm\\login'].map((value) => ({ value, text: value }))
const ownForms = [{ value: '', text: 'as above' }, ...forms]
const otherwise = computed(() => offers.filter(({ key }) => draft.on[key]))

function draftOf(g: Schemas['GatewayRow']): typeof empty {
  const made = { ...empty.offers }
  const on = { ...empty.on }
  for (const { key } of offers) {
    on[key] = !!g.offers[key]
    if (g.offers[key]) made[key] = shown(key, g.offers[key] as Draft)
  }
  return {
    ...empty,
    ...{
      name: g.name,
      address: g.address,
      addresses: g.addresses,
      dynamic: g.dynamic,
      behind_nat: g.behind_nat,
    },
    ...{ city: g.place.city ?? '', country: g.place.country ?? '' },
    ...{ latitude: g.place.latitude ?? null, longitude: g.place.longitude ?? null },
    ...{ form: g.sign_in.form ?? 'login', realm: g.sign_in.realm ?? '' },
    sign_ins: Object.fromEntries(
      offers.map(({ key }) => [key, { form: '', realm: '', ...(g.sign_ins?.[key] ?? {}) }]),
    ) as Record<OfferKey, OwnSignIn>,
    ...{
      domains: g.domains,
      dns: g.dns,
      routes: g.routes,
      pool: g.pool,
      egress: g.egress,
      hosts: g.hosts,
    },
    announced: g.announced,
    rehearse_as: g.rehearsal.account_id ?? '',
    rehearse_every: g.rehearsal.every ?? 0,
    probe_address: g.probe_at?.address ?? '',
    probe_ports: Object.entries(g.probe_at?.ports ?? {}).map(([from, to]) => `${from}=${to}`),
    ...{ note: g.note ?? '', load_share: g.load_share, offers: made, on },
  }
}
// The record has taken over what was seen.
const found = ref<Schemas['FleetFinding'][]>([])
async function look() {
  if (fresh.value) return
  const query = { filter: [`gateway_id:${props.id}`, 'record:true'], limit: 50 }
  found.value = (await ask(api.GET('/api/v1/findings', { params: { query } }))).items
}
// Where the service probes it; a port that is left out is removed by a null.
function probeAt(d: typeof empty) {
  const ports: Record<string, number | null> = {}
  for (const from of Object.keys(row.value?.probe_at?.ports ?? {})) ports[from] = null
  for (const line of d.probe_ports) {
    const [from, to] = line.split('=')
    if (from?.trim()) ports[from.trim()] = Number(to)
  }
  if (!d.probe_address && !d.probe_ports.length) return null
  return { address: d.probe_address, ports }
}

// The record as it is sent: a null in a merge patch removes.
function body(d: typeof empty): Merge<Schemas['GatewayInput']> {
  const {
    name,
    address,
    addresses,
    dynamic,
    behind_nat,
    domains,
    dns,
    routes,
    pool,
    announced,
    egress,
    hosts,
    note,
  } = d
  return {
    ...{
      name,
      address,
      addresses,
      dynamic,
      behind_nat,
      domains,
      dns,
      routes,
      pool,
      announced,
      egress,
      hosts,
      note,
    },
    place: { city: d.city, country: d.country, latitude: d.latitude, longitude: d.longitude },
    sign_in: { form: d.form, realm: d.realm },
    sign_ins: Object.fromEntries(
      offers.map(({ key }) => [key, d.sign_ins[key].form ? d.sign_ins[key] : null]),
    ),
    probe_at: probeAt(d),
    rehearsal: { account_id: d.rehearse_as, every: Number(d.rehearse_every ?? 0) },
    load_share: Number(d.load_share ?? 0),
    offers: Object.fromEntries(
      offers.map(({ key }) => [key, d.on[key] ? sent(key, d.offers[key]) : null]),
    ),
  }
}
</script>

<template>
  <PageHead
    :title="fresh ? 'New gateway' : (row?.name ?? 'Gateway')"
    back="/gateways"
    back-text="Gateways"
  >
    <BButton v-if="row" :to="`/profiles?gateway_id=${id}`" variant="outline-secondary" size="sm"
      >{{ row.profiles }} profiles</BButton
    >
    <SampleButton v-if="row?.profiles" :id="id" noun="gateway" />
  </PageHead>
  <Notice v-if="!fresh && !row" :text="wrong" />
  <section v-if="found.length" class="panel mb-3" aria-labelledby="found">
    <h2 id="found">Actions</h2>
    <div v-for="f in found" :key="f.rule + f.found" class="finding" :class="f.severity">
      <span class="tag" :class="f.severity">{{ say(f.severity) }}</span>
      <strong class="ms-2">{{ say(f.title) }}</strong>
      <p class="mono">{{ told(f.found) }}</p>
      <p class="mb-0"><strong>Fix:</strong> {{ told(f.fix) }}</p>
    </div>
  </section>
  <TabList v-if="fresh || row" label="Parts of the gateway" :of="parts" />
  <RecordForm
    v-if="fresh || row"
    v-show="tab === 'record' || tab === 'offers'"
    :form="form"
    :button="fresh ? 'Add the gateway' : 'Save'"
    @save="save"
  >
    <TabPanel of="record" class="columns">
      <section class="panel" aria-labelledby="where">
        <h2 id="where">Location</h2>
        <Field v-model="draft.name" label="Name" pointer="/name" required />
        <Field v-model="draft.address" label="Address" pointer="/address" required described />
        <Field
          v-model="draft.addresses"
          kind="list"
          label="Known IP addresses"
          pointer="/addresses"
          described
        />
        <Field v-model="draft.dynamic" kind="check" label="The IP address is dynamic" />
        <Field v-model="draft.behind_nat" kind="check" label="It is behind NAT" />
        <div class="pairs">
          <Field v-model="draft.city" label="City" pointer="/place/city" />
          <Field v-model="draft.country" label="Country" pointer="/place/country" described />
          <Field
            v-model="draft.latitude"
            kind="number"
            label="Latitude"
            pointer="/place/latitude"
          />
          <Field
            v-model="draft.longitude"
            kind="number"
            label="Longitude"
            pointer="/place/longitude"
          />
        </div>
        <Field
          v-model="draft.load_share"
          kind="number"
          label="Load share in percent"
          pointer="/load_share"
          described
        />
      </section>
      <div>
        <section class="panel mb-3" aria-labelledby="signing">
          <h2 id="signing">Sign-in</h2>
          <Field
            v-model="draft.form"
            kind="choice"
            label="Form of the login"
            pointer="/sign_in/form"
            :choices="forms"
          />
          <Field
            v-if="draft.form !== 'login'"
            v-model="draft.realm"
            label="Realm"
            pointer="/sign_in/realm"
            required
          />
          <details
            v-if="otherwise.length > 1"
            :open="otherwise.some(({ key }) => draft.sign_ins[key].form)"
          >
            <summary>Protocols with a different form</summary>
            <div v-for="o in otherwise" :key="o.key" class="columns mt-2">
              <Field
                v-model="draft.sign_ins[o.key].form"
                kind="choice"
                :label="`${o.text}: form of the login`"
                :pointer="`/sign_ins/${o.key}/form`"
                :choices="ownForms"
              />
              <Field
                v-if="draft.sign_ins[o.key].form && draft.sign_ins[o.key].form !== 'login'"
                v-model="draft.sign_ins[o.key].realm"
                :label="`${o.text}: realm`"
                :pointer="`/sign_ins/${o.key}/realm`"
                required
              />
            </div>
          </details>
        </section>
        <section class="panel" aria-labelledby="behind">
          <h2 id="behind">Networks behind it</h2>
          <Field v-model="draft.routes" kind="list" label="Networks" pointer="/routes" described />
          <Field v-model="draft.dns" kind="list" label="Internal DNS servers" pointer="/dns" />
          <Field v-model="draft.domains" kind="list" label="Internal domains" pointer="/domains" />
          <Field v-model="draft.pool" kind="list" label="Client address pool" pointer="/pool" />
          <Field
            v-model="draft.announced"
            kind="list"
            label="Announced networks"
            pointer="/announced"
            described
          />
          <Field
            v-model="draft.egress"
            kind="list"
            label="Public addresses of clients (egress)"
            pointer="/egress"
          />
          <Field
            v-model="draft.hosts"
            kind="list"
            label="Internal hosts to test with"
            pointer="/hosts"
          />
          <details class="mb-3" :open="!!(draft.rehearse_as || draft.rehearse_every)">
            <summary>Rehearsals by schedule</summary>
            <p class="soft mt-2">
              One profile for each pattern and platform signs in with this account, so that a change
              at the gateway is noticed.
            </p>
            <AccountField
              v-model="draft.rehearse_as"
              label="Account"
              none="None"
              pointer="/rehearsal/account_id"
            />
            <Field
              v-model="draft.rehearse_every"
              kind="number"
              label="Every so many minutes"
              pointer="/rehearsal/every"
              described
            />
          </details>
          <details class="mb-3" :open="!!(draft.probe_address || draft.probe_ports.length)">
            <summary>Where the service probes it</summary>
            <p class="soft mt-2">
              Only if this differs from where devices connect, such as an internal address or
              forwarded ports.
            </p>
            <Field v-model="draft.probe_address" label="IP address" pointer="/probe_at/address" />
            <Field
              v-model="draft.probe_ports"
              kind="list"
              label="Ports"
              pointer="/probe_at/ports"
              help="One per line, such as 500=20500."
            />
          </details>
          <Field v-model="draft.note" kind="note" label="Note" pointer="/note" />
        </section>
      </div>
    </TabPanel>
    <TabPanel of="offers" class="stacks">
      <OfferForm
        v-for="o in offers"
        :key="o.key"
        v-model="draft.offers[o.key]"
        v-model:on="draft.on[o.key]"
        :offer="o"
        :folded="folded"
      />
    </TabPanel>
    <template #more>
      <RemoveButton
        v-if="row"
        noun="gateway"
        :name="row.name"
        :remove="remove"
        @removed="router.push('/gateways')"
      />
    </template>
  </RecordForm>
  <template v-if="row">
    <TabPanel of="keys">
      <GatewayCertificate :id="row.id" :version="row.version" @changed="reload" />
      <OrderPanel :id="row.id" @changed="reload" />
      <GatewaySide :id="row.id" :name="row.name" />
    </TabPanel>
    <TabPanel of="probe"><ProbePanel :id="row.id" @changed="load" /></TabPanel>
    <TabPanel of="rehearsals">
      <GatewayRehearsals v-if="tab === 'rehearsals'" :of="row.id" />
    </TabPanel>
    <TabPanel of="history"><HistoryList v-if="tab === 'history'" :of="row.id" /></TabPanel>
  </template>
</template>
