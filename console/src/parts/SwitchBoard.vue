<script setup lang="ts">
// Where a switchover stands: its devices by wave and state, what it waits for, what holds the old
// value, and the steps that its operator can take.
import { computed, onMounted, ref } from 'vue'
import { useChanges } from '../api/live'
import { language, say } from '../words'
import { api, ask, type ListQuery, type Schemas } from '../api/client'
import Field from './Field.vue'
import JobProgress from './JobProgress.vue'
import ListTable from './ListTable.vue'
import Notice from './Notice.vue'
import ProgressPlot from './ProgressPlot.vue'
import { platformText } from './platforms'
import { type Board, needTexts, stepLines, stepStates, stepText } from './switchovers'
import { useAddress } from './useAddress'
import { useJob } from './useJob'

const props = defineProps<{ of: Schemas['SwitchoverRow'] }>()
const emit = defineEmits<{ changed: [] }>()
const board = ref<Board>()
const list = ref<{ look: () => Promise<void> }>()
const wrong = ref('')
const busy = ref(false)
const asking = ref<'' | 'cut-off' | 'undo'>('')
const path = computed(() => ({ path: { id: props.of.id } }))
const { job, lost, follow } = useJob(async () => {
  await look()
  emit('changed')
})

async function look() {
  try {
    board.value = await ask(api.GET('/api/v1/switchovers/{id}/board', { params: path.value }))
    void list.value?.look()
    if (board.value.job_id && job.value?.state !== 'running') {
      const params = { path: { id: board.value.job_id } }
      follow(await ask(api.GET('/api/v1/jobs/{id}', { params })))
    }
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
onMounted(look)
useChanges(['handover', 'rehearsal', 'switchover'], () => void look())

const active = computed(() => ['running', 'paused'].includes(props.of.state))
const listed = computed(() => props.of.waves ?? [])
const waves = computed(() => Math.max(1, listed.value.length))
const held = computed(() => board.value?.holders ?? 0)
const table = computed(() =>
  Array.from({ length: waves.value }, (_, i) => {
    const counts = board.value?.counts.filter((c) => c.wave === i + 1) ?? []
    const by = (state: string) =>
      counts.filter((c) => c.state === state).reduce((n, c) => n + c.count, 0)
    const wave = listed.value[i]
    return {
      wave: i + 1,
      name: wave?.group ? `group ${wave.group}` : wave ? `up to ${wave.share} %` : 'all devices',
      begun: i < props.of.begun,
      all: counts.reduce((n, c) => n + c.count, 0),
      parts: stepStates.map((s) => ({ ...s, count: by(s.state) })),
    }
  }),
)

async function act(work: () => Promise<unknown>) {
  busy.value = true
  wrong.value = ''
  try {
    await work()
    asking.value = ''
    emit('changed')
    await look()
  } catch (e) {
    wrong.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
const preview = () =>
  act(async () =>
    follow(await ask(api.POST('/api/v1/switchovers/{id}/previews', { params: path.value }))),
  )
type Phase = 'start' | 'pause' | 'resume' | 'advance' | 'undo' | 'cut-off'
const phase = (name: Phase, more: { holders?: number; anyway?: boolean } = {}) =>
  act(() =>
    ask(
      api.POST('/api/v1/switchovers/{id}/phases', {
        params: path.value,
        body: { phase: name, ...more },
      }),
    ),
  )
const confirm = (profile: string) =>
  act(() =>
    ask(
      api.POST('/api/v1/switchovers/{id}/devices/{profile}/confirmation', {
        params: { path: { id: props.of.id, profile } },
      }),
    ),
  )

// Nouns keep their capitals in German.
const within = (text: string) => (language.value === 'en' ? text.toLowerCase() : say(text))
const state = useAddress('state')
function showHolders() {
  state.value = 'old'
  document.getElementById('devices')?.scrollIntoView()
}
const filters = computed(() => {
  if (state.value === 'old') return ['holds_old:true']
  return state.value ? [`state:${state.value}`] : []
})
const states = [
  { value: '', text: 'All' },
  { value: 'old', text: 'Holds the old value' },
  ...stepStates.map((s) => ({ value: s.state, text: s.text })),
]
const columns = [
  { key: 'device', text: 'Device', sort: 'device' },
  { key: 'person', text: 'Person', sort: 'person' },
  { key: 'wave', text: 'Wave', sort: 'wave', number: true },
  { key: 'need', text: 'The person must' },
  { key: 'state', text: 'State' },
  { key: 'why', text: 'Why' },
]
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(
    api.GET('/api/v1/switchovers/{id}/devices', {
      params: { path: { id: props.of.id }, query },
      signal,
    }),
  )
</script>

<template>
  <Notice :text="wrong" />
  <JobProgress v-if="job" v-model="job" class="mb-3" of="devices" :lost="lost" />
  <div class="alters d-flex flex-wrap gap-2 mb-3">
    <template v-if="of.state === 'draft'">
      <BButton
        :variant="of.surveyed ? 'outline-secondary' : 'primary'"
        :disabled="busy"
        @click="preview"
        >{{ of.surveyed ? 'Compute the preview again' : 'Compute the preview' }}</BButton
      >
      <BButton v-if="of.surveyed" variant="primary" :disabled="busy" @click="phase('start')"
        >Start</BButton
      >
    </template>
    <template v-if="active">
      <BButton
        v-if="of.state === 'running' && of.begun < waves"
        variant="primary"
        :disabled="busy || !!board?.waits"
        @click="phase('advance')"
        >Begin wave {{ of.begun + 1 }}</BButton
      >
      <BButton
        v-if="of.state === 'running' && of.begun < waves && board?.waits"
        variant="outline-secondary"
        :disabled="busy"
        @click="phase('advance', { anyway: true })"
        >Begin it anyway</BButton
      >
      <BButton
        v-if="of.state === 'running'"
        variant="outline-secondary"
        :disabled="busy"
        @click="phase('pause')"
        >Pause</BButton
      >
      <BButton v-else variant="primary" :disabled="busy" @click="phase('resume')">Resume</BButton>
      <BButton variant="outline-secondary" :disabled="busy" @click="asking = 'undo'">Undo</BButton>
      <BButton
        :variant="of.begun >= waves ? 'primary' : 'outline-secondary'"
        :disabled="busy"
        @click="asking = 'cut-off'"
        >Cut off the old value</BButton
      >
    </template>
  </div>
  <p v-if="of.state === 'draft' && !of.surveyed" class="panel">
    A draft changes nothing. Compute its preview: every device is planned with the new value, and
    you see what its person must do, and who cannot follow.
  </p>
  <template v-if="board && of.touched > 0">
    <p v-if="of.paused" class="finding warning">Paused: {{ of.paused }}.</p>
    <p v-else-if="board.waits" class="finding note">The next wave waits: {{ board.waits }}.</p>
    <p v-if="held">
      {{ held }} of {{ of.touched }} devices hold the old value.
      <button type="button" class="linklike" @click="showHolders">Show them</button>
    </p>
    <div class="two">
      <section class="panel" aria-labelledby="waves">
        <h2 id="waves">Devices by wave</h2>
        <div v-for="w in table" :key="w.wave" class="wave">
          <div class="d-flex justify-content-between gap-2">
            <span
              ><strong>Wave {{ w.wave }}</strong
              >, {{ w.name }}<span v-if="!w.begun" class="soft"> · not begun</span></span
            ><span class="soft">{{ w.all }}</span>
          </div>
          <div class="stack" aria-hidden="true">
            <template v-for="p in w.parts" :key="p.state"
              ><span v-if="p.count" :style="{ flexGrow: p.count, background: p.colour }"
            /></template>
          </div>
          <ul class="legend">
            <template v-for="p in w.parts" :key="p.state"
              ><li v-if="p.count">
                <span class="dot" :style="{ background: p.colour }" aria-hidden="true" />{{
                  p.count
                }}
                {{ within(p.text) }}
              </li></template
            >
          </ul>
        </div>
        <p v-if="board.reports" class="mb-0">
          <RouterLink to="/findings"
            >{{ board.reports === 1 ? '1 device reports' : `${board.reports} devices report` }} a
            problem</RouterLink
          >
        </p>
        <template v-if="board.days.length > 0">
          <h3 class="mt-3">Progress</h3>
          <ProgressPlot
            :days="board.days"
            :lines="stepLines"
            :total="of.touched"
            of="devices"
            label="Devices by state over time; the list of waves has the same numbers of today"
          />
        </template>
      </section>
      <section class="panel" aria-labelledby="needs">
        <h2 id="needs">What people must do</h2>
        <table class="grid-table">
          <tbody>
            <tr v-for="(n, i) in board.needs.slice(0, 12)" :key="i">
              <td class="number">{{ n.count }}</td>
              <td>
                {{ platformText(n.platform)
                }}<template v-if="n.gateway"> → {{ n.gateway }}</template>
              </td>
              <td>
                {{ say(needTexts[n.need]) }}<span v-if="n.why" class="soft">: {{ n.why }}</span>
                <span v-if="n.new_findings" class="soft">
                  · {{ n.new_findings }} with new findings</span
                >
              </td>
            </tr>
          </tbody>
        </table>
        <ul v-if="board.loads.length" class="plain-list mt-2">
          <li v-for="l in board.loads" :key="l.gateway_id">
            {{ l.gateway }}: {{ l.coming }} more devices, {{ l.now }} today
            <span v-if="l.short" class="tag warning"
              >its client address pool has room for {{ l.addresses }}</span
            >
          </li>
        </ul>
        <ul class="plain-list small mt-2">
          <li v-for="h in board.holds" :key="h.protocol">
            {{ h.protocol.toUpperCase() }}:
            {{
              h.both
                ? 'the gateway can serve both values'
                : `the gateway serves one value at a time, because ${h.why}`
            }}
          </li>
          <li v-for="p in board.places" :key="p.what" class="soft">
            Old value: {{ p.name }} ({{ p.count }})
          </li>
        </ul>
      </section>
    </div>
    <section class="mt-4" aria-labelledby="devices">
      <h2 id="devices">Devices</h2>
      <ListTable
        ref="list"
        noun="devices"
        :columns="columns"
        :load="load"
        first="device"
        :filters="filters"
      >
        <template #filter
          ><Field v-model="state" kind="choice" label="State" :choices="states"
        /></template>
        <template #cell="{ row, column }">
          <RouterLink v-if="column === 'device'" :to="`/profiles/${row.tracked}`">{{
            row.device
          }}</RouterLink>
          <template v-else-if="column === 'need'">{{ say(needTexts[row.need]) }}</template>
          <template v-else-if="column === 'state'"
            >{{ say(stepText(row.state)) }}
            <BButton
              v-if="active && ['built', 'handed-over', 'released'].includes(row.state)"
              class="alters ms-1"
              size="sm"
              variant="outline-secondary"
              @click="confirm(row.profile_id)"
              >Confirm</BButton
            ></template
          >
          <span v-else-if="column === 'why'" class="soft">{{ row.why }}</span>
          <template v-else>{{ row[column as 'person' | 'wave'] }}</template>
        </template>
        <template #empty>No device is touched.</template>
      </ListTable>
    </section>
  </template>
  <p v-else-if="of.surveyed && of.touched === 0" class="panel">
    No device is touched: nothing on record has the old value.
  </p>
  <BModal
    :model-value="asking === 'cut-off'"
    title="Cut off the old value?"
    title-tag="h2"
    no-footer
    lazy
    @update:model-value="asking = ''"
  >
    <p v-if="held">
      <strong>{{ held }} {{ held === 1 ? 'device holds' : 'devices hold' }} the old value</strong>
      and will not connect any more. The list below shows them under “Holds the old value”.
    </p>
    <p v-else>No device is known to hold the old value.</p>
    <p>The record gets the new value, and links to parcels with the old one are closed.</p>
    <Notice :text="wrong" />
    <div class="d-flex gap-2 justify-content-end mt-3">
      <BButton variant="outline-secondary" @click="asking = ''">Cancel</BButton>
      <BButton variant="danger" :disabled="busy" @click="phase('cut-off', { holders: held })"
        >Cut off</BButton
      >
    </div>
  </BModal>
  <BModal
    :model-value="asking === 'undo'"
    title="Undo the switchover?"
    title-tag="h2"
    no-footer
    lazy
    @update:model-value="asking = ''"
  >
    <p>
      The old value stays. Links to parcels with the new one are closed; devices that have taken it
      need another parcel.
    </p>
    <Notice :text="wrong" />
    <div class="d-flex gap-2 justify-content-end mt-3">
      <BButton variant="outline-secondary" @click="asking = ''">Cancel</BButton>
      <BButton variant="danger" :disabled="busy" @click="phase('undo')">Undo</BButton>
    </div>
  </BModal>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(24rem, 100%), 1fr));
  gap: 1rem;
}
.wave + .wave {
  margin-top: 0.9rem;
}
.stack {
  display: flex;
  height: 0.9rem;
  border-radius: 0.35rem;
  overflow: hidden;
  gap: 2px;
  margin: 0.25rem 0;
}
.legend {
  list-style: none;
  padding: 0;
  margin: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem 0.9rem;
  font-size: 0.86rem;
}
.dot {
  display: inline-block;
  width: 0.65rem;
  height: 0.65rem;
  border-radius: 50%;
  margin-right: 0.35rem;
}
</style>
