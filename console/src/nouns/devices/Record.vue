<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { choices } from '../../api/records'
import { devices } from '../../nouns/devices'
import { authorities as authorityRecords } from '../../nouns/authorities'
import { gateways as gatewayRecords } from '../../nouns/gateways'
import ChainView from '../../parts/ChainView.vue'
import Field from '../../parts/Field.vue'
import IssuePanel from '../../parts/IssuePanel.vue'
import MaterialForm from '../../parts/MaterialForm.vue'
import Notice from '../../parts/Notice.vue'
import PageHead from '../../parts/PageHead.vue'
import PersonField from '../../parts/PersonField.vue'
import RecordForm from '../../parts/RecordForm.vue'
import RemoveButton from '../../parts/RemoveButton.vue'
import OrderField from '../../parts/OrderField.vue'
import OffboardPanel from '../../parts/OffboardPanel.vue'
import TallyTags from '../../parts/TallyTags.vue'
import type { Material } from '../../parts/files'
import { platforms } from '../../parts/platforms'
import { useForm } from '../../parts/useForm'
import { useRecord } from '../../parts/useRecord'

const props = defineProps<{ id: string }>()
const route = useRoute()
const router = useRouter()
const profiles = ref<Schemas['ProfileRow'][]>([])
const gateways = ref<{ value: string; text: string }[]>([])
const authorities = ref<{ value: string; text: string }[]>([])
const enrolChoices = computed(() => [{ value: '', text: 'no' }, ...authorities.value])
const gateway = ref('')
const adding = useForm({})
const offboardings = [
  { value: '', text: 'no, in use' },
  { value: 'lost', text: 'lost' },
  { value: 'left', text: 'person has left' },
  { value: 'retired', text: 'no longer used' },
]

const routing = (platform: string) => ['linux', 'openwrt'].includes(platform)
const { form, draft, errors, row, fresh, wrong, reload, save, remove } = useRecord({
  of: devices,
  id: () => props.id,
  empty: {
    name: '',
    person_id: String(route.query.person ?? ''),
    platform: 'windows',
    release: '',
    encrypted: false,
    cannot_ask: false,
    offboarded: '',
    enrol: '',
    others: [] as string[],
    generation: 0,
    alone: false,
    certificate: '',
    key: '',
    site: [] as string[],
    masquerade: false,
  },
  draftOf: (d) => ({
    name: d.name,
    person_id: d.person_id,
    platform: d.platform,
    release: d.release,
    encrypted: d.encrypted,
    cannot_ask: d.cannot_ask,
    offboarded: d.offboarded ?? '',
    enrol: d.enrolment?.authority_id ?? '',
    others: d.enrolment?.other_authority_ids ?? [],
    generation: d.enrolment?.generation ?? 0,
    alone: d.identity?.on_device ?? false,
    certificate: d.identity?.certificate ?? '',
    key: '',
    site: d.site?.networks ?? [],
    masquerade: d.site?.masquerade ?? false,
  }),
  // A key is sent only where one was typed; no certificate removes both.
  body: ({ certificate, key, site, masquerade, enrol, others, generation, alone, ...rest }) => ({
    ...rest,
    enrolment: enrol
      ? {
          authority_id: enrol,
          other_authority_ids: others.filter((id) => id !== enrol),
          generation: Number(generation),
        }
      : null,
    identity: certificate.trim()
      ? {
          certificate,
          ...(key ? { key } : alone ? { on_device: true } : {}),
        }
      : null,
    site: site.length && routing(rest.platform) ? { networks: site, masquerade } : null,
  }),
  loaded: async () => {
    authorities.value = await choices(authorityRecords)
    if (fresh.value) return
    const query = { filter: [`device_id:${props.id}`], limit: 100 }
    profiles.value = (await ask(api.GET('/api/v1/profiles', { params: { query } }))).items
    gateways.value = await choices(gatewayRecords)
    gateway.value = left.value[0]?.value ?? ''
    await draw()
  },
})
const left = computed(() =>
  gateways.value.filter((g) => !profiles.value.some((p) => p.gateway_id === g.value)),
)
const chain = ref<Schemas['Chain']>()
async function draw() {
  const path = { noun: 'device' as const, id: props.id }
  chain.value = await ask(api.GET('/api/v1/chains/{noun}/{id}', { params: { path } }))
}
async function again() {
  await reload()
  await draw()
}
const drop = (serial: string) =>
  ask(
    api.DELETE('/api/v1/devices/{id}/certificates/{serial}', {
      params: { path: { id: props.id, serial } },
    }),
  )
async function bring(m: Material) {
  await ask(
    api.POST('/api/v1/devices/{id}/certificate', {
      params: { path: { id: props.id } },
      body: m,
    }),
  )
  await again()
}
async function addProfile() {
  await adding.run(async () => {
    const p = await ask(
      api.POST('/api/v1/profiles', { body: { device_id: props.id, gateway_id: gateway.value } }),
    )
    await router.push(`/profiles/${p.id}`)
  })
}
</script>

<template>
  <PageHead
    :title="fresh ? 'New device' : (row?.name ?? 'Device')"
    back="/devices"
    back-text="Devices"
  />
  <Notice v-if="!fresh && !row" :text="wrong" />
  <RecordForm
    v-if="fresh || row"
    class="panel mb-4"
    :form="form"
    :button="fresh ? 'Add the device' : 'Save'"
    @save="save"
  >
    <div class="columns">
      <Field v-model="draft.name" label="Name" pointer="/name" required />
      <PersonField v-model="draft.person_id" pointer="/person_id" />
      <Field
        v-model="draft.platform"
        kind="choice"
        label="Platform"
        pointer="/platform"
        :choices="platforms"
        required
      />
      <Field
        v-model="draft.release"
        label="Release"
        pointer="/release"
        required
        help="Such as 11, 10.15 or 23.05; for a Linux desktop, the version of NetworkManager"
      />
    </div>
    <Field
      v-if="row?.offboarded"
      v-model="draft.offboarded"
      kind="choice"
      label="Offboarded"
      pointer="/offboarded"
      :choices="offboardings"
      help="No parcels are built for it. If it is back, set it to “in use”."
    />
    <Field v-model="draft.encrypted" kind="check" label="Disk is encrypted" />
    <Field v-model="draft.cannot_ask" kind="check" label="It cannot prompt for a password" />
    <details v-if="routing(draft.platform)" class="mb-3" :open="draft.site.length > 0">
      <summary>Site behind the router</summary>
      <div class="columns mt-2">
        <Field
          v-model="draft.site"
          kind="list"
          label="Networks of the site"
          pointer="/site/networks"
          :help="
            'CIDR, one per line. Their hosts reach the networks behind the gateway through this ' +
            'router.'
          "
        />
        <Field
          v-model="draft.masquerade"
          kind="check"
          label="Masquerade: the router translates the site's addresses"
          pointer="/site/masquerade"
          :help="
            'The gateway then needs no route to the site, and hosts behind it cannot connect to ' +
            'the site.'
          "
        />
      </div>
    </details>
    <details class="mb-3" :open="!!draft.certificate || !!errors['/identity/key']">
      <summary>Certificate of the device</summary>
      <div class="columns mt-2">
        <Field
          v-model="draft.enrol"
          kind="choice"
          label="Key made on the device"
          pointer="/enrolment/authority_id"
          :choices="enrolChoices"
          :help="
            'The device then gets its certificate from this CA by itself, and its key never ' +
            'leaves it. Apple systems, Windows and the daemons of Linux can do this.'
          "
        />
        <OrderField
          v-if="draft.enrol"
          v-model="draft.others"
          label="Further CAs, for gateways that do not trust the first"
          :choices="authorities.filter((a) => a.value !== draft.enrol)"
          none="None."
        />
        <Field
          v-if="draft.enrol"
          v-model="draft.generation"
          kind="number"
          label="Generation of the enrolment secret"
          pointer="/enrolment/generation"
          help="Raise it, and build again, to let the device ask for another certificate."
        />
        <Field
          v-model="draft.certificate"
          kind="pem"
          label="Certificate with chain"
          pointer="/identity/certificate"
          :help="
            'PEM, the device\'s own certificate first. Without one, gateways that require ' +
            'certificates cannot be used.'
          "
        />
        <Field
          v-model="draft.key"
          kind="pem"
          label="Private key"
          pointer="/identity/key"
          :help="
            row?.identity?.on_device
              ? 'The device made its key itself; it is nowhere else.'
              : row?.identity?.key_set
                ? 'A key is stored. Leave this empty to keep it.'
                : 'PEM without a passphrase. It is sealed on arrival.'
          "
        />
      </div>
    </details>
    <template #more>
      <RemoveButton
        v-if="row"
        noun="device"
        :name="row.name"
        :remove="remove"
        @removed="router.push('/devices')"
      />
    </template>
  </RecordForm>
  <section v-if="row" class="panel mb-4" aria-labelledby="certificate">
    <h2 id="certificate">Certificate</h2>
    <ChainView v-if="chain" :links="chain.links" :against="chain.against" empty="None." />
    <template v-for="other in chain?.others" :key="other[0]!.serial">
      <h3 class="mt-3 fs-6">For gateways that trust {{ other[0]!.issuer }}</h3>
      <ChainView :links="other" />
      <RemoveButton
        noun="certificate"
        size="sm"
        :name="other[0]!.subject"
        :remove="() => drop(other[0]!.serial)"
        @removed="again"
      />
    </template>
    <p class="soft mt-2 mb-0">
      A new one replaces that of the same CA. Those of other CAs stay, for gateways that trust only
      them.
    </p>
    <IssuePanel :device="row.id" :has="!!row.identity?.key_set" @issued="again" />
    <details class="mt-3">
      <summary>Import a certificate</summary>
      <MaterialForm class="mt-2" button="Give it to the device" keyed :send="bring" />
    </details>
  </section>
  <OffboardPanel v-if="row" :id="row.id" noun="device" :name="row.name" @offboarded="again" />
  <section v-if="row" class="panel" aria-labelledby="profiles">
    <h2 id="profiles">Profiles</h2>
    <p v-if="profiles.length === 0">
      No profile yet: choose a gateway to see how the device would connect.
    </p>
    <table v-else class="grid-table mb-3">
      <thead class="visually-hidden">
        <tr>
          <th scope="col">Gateway</th>
          <th scope="col">Findings</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in profiles" :key="p.id">
          <td>
            <RouterLink :to="`/profiles/${p.id}`">{{ p.gateway }}</RouterLink>
          </td>
          <td><TallyTags :tally="p.tally" :checked="p.checked" /></td>
        </tr>
      </tbody>
    </table>
    <form
      v-if="left.length > 0"
      class="d-flex flex-wrap gap-2 align-items-end"
      @submit.prevent="addProfile"
    >
      <div>
        <label class="form-label" for="gateway">Gateway</label>
        <BFormSelect id="gateway" v-model="gateway" :options="left" />
      </div>
      <BButton
        class="alters"
        type="submit"
        variant="outline-secondary"
        :disabled="adding.busy.value"
        >Add a profile</BButton
      >
    </form>
    <Notice :text="adding.wrong.value" />
  </section>
</template>
