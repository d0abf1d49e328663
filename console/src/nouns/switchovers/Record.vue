<script setup lang="ts">
// A switchover: what changes and when, and, once its preview is computed, where its devices stand.
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Schemas } from '../../api/client'
import { choices } from '../../api/records'
import { authorities as authorityRecords } from '../authorities'
import { gateways as gatewayRecords } from '../gateways'
import { switchovers } from '.'
import Field from '../../parts/Field.vue'
import Notice from '../../parts/Notice.vue'
import PageHead from '../../parts/PageHead.vue'
import RecordForm from '../../parts/RecordForm.vue'
import RemoveButton from '../../parts/RemoveButton.vue'
import SwitchBoard from '../../parts/SwitchBoard.vue'
import { type OfferKey, offers } from '../../parts/offers'
import { platforms } from '../../parts/platforms'
import { kindOf, kinds, kindText, stateTags, valueFields } from '../../parts/switchovers'
import { useRecord } from '../../parts/useRecord'

type Row = Schemas['SwitchoverRow']
const props = defineProps<{ id: string }>()
const route = useRoute()
const router = useRouter()
const gateways = ref<{ value: string; text: string }[]>([])
const authorities = ref<{ value: string; text: string }[]>([])
const chosen = (name: string) => String(route.query[name] ?? '')

const empty = {
  name: '',
  kind: chosen('kind') || 'psk',
  gateway_id: chosen('gateway_id'),
  authority_id: chosen('authority_id'),
  successor_id: '',
  successor_ids: [] as string[],
  group: '',
  platform: '',
  note: '',
  valid_from: '',
  cut_off: chosen('until'),
  waves: [] as string[],
  seen_share: 0,
  rehearse: false,
  report_share: 5,
  remind_days: 3,
  mail: true,
  psk: '',
  control_key: '',
  local_id: '',
  authority: '',
  certificate: '',
  address: '',
  addresses: [] as string[],
  remotes: [] as string[],
  sstp_port: null as number | null,
  ike: [] as string[],
  esp: [] as string[],
  ciphers: [] as string[],
  drop: [] as OfferKey[],
  release: '',
}
type Draft = typeof empty
const day = (at?: string | null) => (at ? at.slice(0, 10) : '')
const instant = (text: string) => (text ? new Date(text + 'T00:00:00').toISOString() : null)

const { form, draft, row, fresh, wrong, save, remove, load } = useRecord({
  of: switchovers,
  id: () => props.id,
  empty,
  draftOf: (r: Row): Draft => ({
    ...empty,
    ...(Object.fromEntries(
      Object.entries(r).filter(([key, value]) => key in empty && value !== undefined),
    ) as Partial<Draft>),
    valid_from: day(r.valid_from),
    cut_off: day(r.cut_off),
    waves: (r.waves ?? []).map((w) => (w.group ? w.group : `${w.share}`)),
    authority: r.next?.authority ?? '',
    certificate: r.next?.certificate ?? '',
    address: r.next?.address ?? '',
    addresses: r.next?.addresses ?? [],
    remotes: (r.next?.remotes ?? []).map((x) =>
      [x.transport, x.address, x.port].filter(Boolean).join(':'),
    ),
    sstp_port: r.next?.sstp_port ?? null,
    ike: r.next?.ike ?? [],
    esp: r.next?.esp ?? [],
    ciphers: r.next?.ciphers ?? [],
    drop: (r.next?.drop ?? []) as OfferKey[],
    release: r.next?.release ?? '',
    local_id: r.next?.local_id ?? '',
  }),
  body: (d) => bodyOf(d) as never,
  loaded: async () => {
    gateways.value = await choices(gatewayRecords)
    authorities.value = await choices(authorityRecords)
  },
})

// Only what belongs to the kind is sent.
function bodyOf(d: Draft) {
  const next: Record<string, unknown> = {}
  const put = (kind: string, values: Record<string, unknown>) => {
    if (d.kind !== kind) return
    for (const [key, value] of Object.entries(values)) if (value !== '') next[key] = value
  }
  put('psk', { psk: d.psk, local_id: d.local_id })
  put('control-key', { control_key: d.control_key })
  put('authority', { authority: d.authority })
  put('certificate', { certificate: d.certificate })
  put('address', { address: d.address, addresses: d.addresses })
  put('port', { remotes: d.remotes.map(remoteOf), sstp_port: d.sstp_port ?? 0 })
  put('proposals', { ike: d.ike, esp: d.esp, ciphers: d.ciphers })
  put('offers', { drop: d.drop })
  put('release', { release: d.release })
  return {
    name: d.name,
    kind: d.kind,
    gateway_id: kindOf(d.kind) === 'gateway' ? d.gateway_id : '',
    authority_id: d.kind === 'ca-rollover' ? d.authority_id : '',
    successor_id: d.kind === 'ca-rollover' ? d.successor_id : '',
    successor_ids: d.kind === 'retirement' ? d.successor_ids : [],
    group: d.group,
    platform: d.kind === 'release' ? d.platform : '',
    note: d.note,
    valid_from: instant(d.valid_from),
    cut_off: instant(d.cut_off),
    waves: d.waves
      .filter((w) => w.trim())
      .map((w) => (/^\d+%?$/.test(w.trim()) ? { share: parseInt(w) } : { group: w.trim() })),
    seen_share: d.seen_share ?? 0,
    rehearse: d.rehearse,
    report_share: d.report_share ?? 0,
    remind_days: d.remind_days ?? 0,
    mail: d.mail,
    next,
  }
}
function remoteOf(text: string) {
  const [transport, ...rest] = text.split(':')
  return { transport, port: Number(rest.pop()), address: rest.join(':') || undefined }
}

const begun = computed(() => row.value && row.value.state !== 'draft')
const shown = (kind: string) => draft.kind === kind
const stored = (key: string) =>
  (key === 'psk' && row.value?.next?.psk_set) ||
  (key === 'control_key' && row.value?.next?.control_key_set)
const listed = computed(() => offers.map((o) => ({ value: o.key, text: o.text })))
</script>

<template>
  <PageHead
    :title="fresh ? 'Plan a switchover' : (row?.name ?? '')"
    back="/switchovers"
    back-text="Switchovers"
  >
    <template v-if="row">
      <span class="tag" :class="stateTags[row.state]">{{ row.state }}</span>
      <span class="soft"
        >{{ kindText(row.kind) }}<template v-if="row.gateway"> · {{ row.gateway }}</template></span
      >
    </template>
  </PageHead>
  <Notice :text="row ? '' : wrong" />
  <SwitchBoard v-if="row" :key="row.version" :of="row" @changed="load" />
  <details v-if="fresh || row" :open="fresh || undefined" class="panel mt-3">
    <summary>
      <h2 class="d-inline">{{ begun ? 'Settings' : 'What changes, and when' }}</h2>
    </summary>
    <RecordForm :form="form" :button="fresh ? 'Save the draft' : 'Save'" class="mt-3" @save="save">
      <div class="columns">
        <div>
          <Field v-model="draft.name" label="Name" pointer="/name" required />
          <template v-if="!begun">
            <Field
              v-model="draft.kind"
              kind="choice"
              label="What changes"
              pointer="/kind"
              :choices="kinds"
            />
            <Field
              v-if="kindOf(draft.kind) === 'gateway'"
              v-model="draft.gateway_id"
              kind="choice"
              label="Gateway"
              pointer="/gateway_id"
              :choices="gateways"
              required
            />
            <Field
              v-for="f in valueFields[draft.kind] ?? []"
              :key="f.key"
              v-model="draft[f.key]"
              :kind="f.kind ?? 'text'"
              :label="f.label"
              :pointer="`/next/${f.key}`"
              :help="f.help ?? (stored(f.key) ? 'A key is stored.' : '')"
              :described="!f.help && !stored(f.key)"
              :required="f.required"
            />
            <fieldset v-if="shown('offers')" class="mb-3">
              <legend class="form-label fs-6">Protocols that end</legend>
              <BFormCheckboxGroup v-model="draft.drop" :options="listed" stacked />
            </fieldset>
            <fieldset v-if="shown('retirement')" class="mb-3">
              <legend class="form-label fs-6">Gateways that take its place</legend>
              <BFormCheckboxGroup
                v-model="draft.successor_ids"
                :options="gateways.filter((g) => g.value !== draft.gateway_id)"
                stacked
              />
              <div class="form-text">
                Each device gets the nearest that it can use; equally near ones share by their load
                shares.
              </div>
            </fieldset>
            <template v-if="shown('ca-rollover')">
              <Field
                v-model="draft.authority_id"
                kind="choice"
                label="CA that is replaced"
                pointer="/authority_id"
                :choices="authorities"
                required
              />
              <Field
                v-model="draft.successor_id"
                kind="choice"
                label="CA that replaces it"
                pointer="/successor_id"
                :choices="authorities"
                required
              />
            </template>
            <Field
              v-if="shown('release')"
              v-model="draft.platform"
              kind="choice"
              label="Platform"
              pointer="/platform"
              :choices="platforms"
              required
            />
            <Field v-model="draft.group" label="Only the group" pointer="/group" described />
          </template>
        </div>
        <div>
          <template v-if="!begun">
            <Field
              v-model="draft.waves"
              kind="list"
              label="Waves"
              pointer="/waves"
              :help="
                'A group of people, or a share of all devices in percent; the last is 100. ' +
                'Empty moves all at once. One per line.'
              "
              placeholder="pilots&#10;25&#10;100"
            />
          </template>
          <Field
            v-model="draft.seen_share"
            kind="number"
            label="Percent seen before the next wave"
            pointer="/seen_share"
            described
          />
          <Field
            v-model="draft.rehearse"
            kind="check"
            label="Wait for a rehearsal before the next wave"
            pointer="/rehearse"
          />
          <Field
            v-model="draft.report_share"
            kind="number"
            label="Percent of problems that pauses it"
            pointer="/report_share"
            described
          />
          <Field
            v-model="draft.remind_days"
            kind="number"
            label="Days until a reminder"
            pointer="/remind_days"
            described
          />
          <Field v-model="draft.mail" kind="check" label="Send links by mail" pointer="/mail" />
          <Field
            v-model="draft.valid_from"
            kind="date"
            label="New value valid from"
            pointer="/valid_from"
            described
          />
          <Field
            v-model="draft.cut_off"
            kind="date"
            label="Old value until"
            pointer="/cut_off"
            described
          />
          <Field v-model="draft.note" kind="note" label="Note" pointer="/note" />
        </div>
      </div>
      <template v-if="row && !['running', 'paused'].includes(row.state)" #more>
        <RemoveButton
          noun="switchover"
          :name="row.name"
          :remove="remove"
          @removed="router.push('/switchovers')"
        />
      </template>
    </RecordForm>
  </details>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(22rem, 100%), 1fr));
  gap: 0 2rem;
}
summary {
  cursor: pointer;
}
</style>
