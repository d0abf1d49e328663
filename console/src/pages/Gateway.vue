<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, patch, type Schemas } from '../api/client'
import Field from '../parts/Field.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import RemoveButton from '../parts/RemoveButton.vue'
import { useForm } from '../parts/useForm'

const props = defineProps<{ id: string }>()
const router = useRouter()
const fresh = computed(() => props.id === 'new')
const row = ref<Schemas['GatewayRow']>()

const blank = {
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
  domains: [] as string[],
  dns: [] as string[],
  routes: [] as string[],
  pool: [] as string[],
  egress: [] as string[],
  hosts: [] as string[],
  note: '',
  l2tp: true,
  psk: '',
  ppp: ['mschapv2'],
  ike: ['aes256-sha256-modp2048'],
  esp: ['aes256-sha256'],
}
const { draft, errors, wrong, done, busy, fill, run } = useForm(blank)
const forms = ['login', 'login@realm', 'realm\\login'].map((value) => ({ value, text: value }))
const methods = ['mschapv2', 'eap', 'mschap', 'chap', 'pap']

function show(g: Schemas['GatewayRow']) {
  row.value = g
  const offer = g.offers.l2tp
  fill({
    ...blank,
    ...{ name: g.name, address: g.address, addresses: g.addresses, dynamic: g.dynamic, behind_nat: g.behind_nat },
    ...{ city: g.place.city ?? '', country: g.place.country ?? '' },
    ...{ latitude: g.place.latitude ?? null, longitude: g.place.longitude ?? null },
    ...{ form: g.sign_in.form ?? 'login', realm: g.sign_in.realm ?? '' },
    ...{ domains: g.domains, dns: g.dns, routes: g.routes, pool: g.pool, egress: g.egress, hosts: g.hosts },
    ...{ note: g.note ?? '', l2tp: !!offer, psk: '' },
    ...(offer ? { ppp: offer.ppp ?? [], ike: offer.ike ?? [], esp: offer.esp ?? [] } : {}),
  })
}
onMounted(async () => {
  if (fresh.value) return
  await run(async () => show(await ask(api.GET('/api/v1/gateways/{id}', { params: { path: { id: props.id } } }))), '')
})

// The record as it is sent: a null in a merge patch removes.
function body() {
  const d = draft
  const { name, address, addresses, dynamic, behind_nat, domains, dns, routes, pool, egress, hosts, note } = d
  const offer = { ppp: d.ppp, ike: d.ike, esp: d.esp, ...(d.psk ? { psk: d.psk } : {}) }
  return {
    ...{ name, address, addresses, dynamic, behind_nat, domains, dns, routes, pool, egress, hosts, note },
    place: { city: d.city, country: d.country, latitude: d.latitude, longitude: d.longitude },
    sign_in: { form: d.form, realm: d.realm },
    offers: { l2tp: d.l2tp ? offer : null },
  } as unknown as Schemas['GatewayInput']
}
async function save() {
  await run(async () => {
    if (fresh.value) {
      const g = await ask(api.POST('/api/v1/gateways', { body: body() }))
      await router.replace(`/gateways/${g.id}`)
    } else {
      show(await ask(api.PATCH('/api/v1/gateways/{id}', { ...patch(props.id, row.value!.version), body: body() })))
    }
  })
}
const remove = () => ask(api.DELETE('/api/v1/gateways/{id}', { params: { path: { id: props.id } } }))
</script>

<template>
  <PageHead :title="fresh ? 'New gateway' : (row?.name ?? 'Gateway')" back="/gateways" back-text="Gateways">
    <BButton v-if="row" :to="`/profiles?gateway_id=${id}`" variant="outline-secondary" size="sm"
      >{{ row.profiles }} profiles</BButton
    >
  </PageHead>
  <Notice v-if="!fresh && !row" :text="wrong" />
  <form v-if="fresh || row" novalidate @submit.prevent="save">
    <div class="columns">
      <section class="panel" aria-labelledby="where">
        <h2 id="where">Where it is</h2>
        <Field v-model="draft.name" label="Name" pointer="/name" :errors="errors" required />
        <Field
          v-model="draft.address"
          label="Address"
          pointer="/address"
          :errors="errors"
          required
          help="What clients connect to: a host name, or an IP address. Without a scheme and without a port."
        />
        <Field
          v-model="draft.addresses"
          kind="list"
          label="Known IP addresses"
          pointer="/addresses"
          :errors="errors"
          help="One a line. The checks look whether a route covers them."
        />
        <Field v-model="draft.dynamic" kind="check" label="The IP address changes" />
        <Field v-model="draft.behind_nat" kind="check" label="It stands behind NAT" />
        <div class="pairs">
          <Field v-model="draft.city" label="City" pointer="/place/city" :errors="errors" />
          <Field
            v-model="draft.country"
            label="Country"
            pointer="/place/country"
            :errors="errors"
            help="Two letters, such as NO"
          />
          <Field v-model="draft.latitude" kind="number" label="Latitude" pointer="/place/latitude" :errors="errors" />
          <Field
            v-model="draft.longitude"
            kind="number"
            label="Longitude"
            pointer="/place/longitude"
            :errors="errors"
          />
        </div>
      </section>
      <section class="panel" aria-labelledby="offer">
        <h2 id="offer">L2TP/IPsec</h2>
        <Field v-model="draft.l2tp" kind="check" label="The gateway offers L2TP/IPsec" />
        <template v-if="draft.l2tp">
          <Field
            v-model="draft.psk"
            kind="secret"
            label="Pre-shared key"
            :makes="100"
            pointer="/offers/l2tp/psk"
            :errors="errors"
            :help="
              row?.offers.l2tp?.psk_set
                ? 'A key is stored. Leave this empty to keep it.'
                : 'It is sealed as soon as it arrives, and not shown again.'
            "
          />
          <fieldset class="mb-3">
            <legend class="form-label fs-6">PPP authentication that the gateway takes</legend>
            <BFormCheckboxGroup v-model="draft.ppp" :options="methods" name="ppp" />
            <div v-if="errors['/offers/l2tp/ppp']" class="invalid-feedback">{{ errors['/offers/l2tp/ppp'] }}</div>
          </fieldset>
          <Field
            v-model="draft.ike"
            kind="list"
            label="IKE proposals"
            pointer="/offers/l2tp/ike"
            :errors="errors"
            help="One a line, such as aes256-sha256-modp2048"
          />
          <Field
            v-model="draft.esp"
            kind="list"
            label="ESP proposals"
            pointer="/offers/l2tp/esp"
            :errors="errors"
            help="One a line, such as aes256-sha256; with a group there is PFS"
          />
        </template>
        <h2 class="mt-4">Signing in</h2>
        <Field
          v-model="draft.form"
          kind="choice"
          label="Form of the login"
          pointer="/sign_in/form"
          :errors="errors"
          :choices="forms"
        />
        <Field
          v-if="draft.form !== 'login'"
          v-model="draft.realm"
          label="Realm"
          pointer="/sign_in/realm"
          :errors="errors"
          required
        />
      </section>
      <section class="panel" aria-labelledby="behind">
        <h2 id="behind">What lies behind it</h2>
        <Field
          v-model="draft.routes"
          kind="list"
          label="Networks"
          pointer="/routes"
          :errors="errors"
          help="CIDR, one a line. Without any, everything goes through the tunnel."
        />
        <Field v-model="draft.dns" kind="list" label="Inside DNS servers" pointer="/dns" :errors="errors" />
        <Field v-model="draft.domains" kind="list" label="Inside domains" pointer="/domains" :errors="errors" />
        <Field v-model="draft.pool" kind="list" label="Addresses for clients" pointer="/pool" :errors="errors" />
        <Field
          v-model="draft.egress"
          kind="list"
          label="Addresses that the world sees"
          pointer="/egress"
          :errors="errors"
        />
        <Field v-model="draft.hosts" kind="list" label="Inside hosts worth trying" pointer="/hosts" :errors="errors" />
        <Field v-model="draft.note" kind="note" label="Note" pointer="/note" :errors="errors" />
      </section>
    </div>
    <div class="mt-3"><Notice :text="wrong" /><Notice :text="done" kind="done" /></div>
    <div class="d-flex flex-wrap gap-2 mt-3">
      <BButton type="submit" variant="primary" :disabled="busy">{{ fresh ? 'Add the gateway' : 'Save' }}</BButton>
      <RemoveButton v-if="row" noun="gateway" :name="row.name" :remove="remove" @removed="router.push('/gateways')" />
    </div>
  </form>
</template>
