<script setup lang="ts">
// What a gateway really answers: the state of each offer, what differs from the record, and the
// history.
import { computed, defineAsyncComponent, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import AnswerTable from './AnswerTable.vue'
import Notice from './Notice.vue'
import { answerText, closedAsExpected, stateTag, stateText } from './probes'
import { useForm } from './useForm'
import { useJob } from './useJob'
import { exact } from './times'
import { told } from '../told'

const TimesPlot = defineAsyncComponent(() => import('./TimesPlot.vue'))
const props = defineProps<{ id: string }>()
const emit = defineEmits<{ changed: [] }>()
const probe = ref<Schemas['Probe']>()
const history = ref<Schemas['ProbeRow'][]>([])
const { wrong, done, busy, run } = useForm({})
const path = computed(() => ({ id: props.id }))
const takeable = computed(() => (probe.value?.differences ?? []).some((d) => d.take))

async function look() {
  const query = { limit: 60, filter: [`gateway_id:${props.id}`] }
  history.value = (await ask(api.GET('/api/v1/probes', { params: { query } }))).items
  if (history.value.length) {
    const params = { path: { ...path.value, probe: 'latest' } }
    probe.value = await ask(api.GET('/api/v1/gateways/{id}/probes/{probe}', { params }))
  }
}
onMounted(() => run(look, ''))
const { job, lost, follow } = useJob(() => run(look, ''))
const asking = computed(() => job.value?.state === 'running')
const probeNow = () =>
  run(
    async () =>
      follow(await ask(api.POST('/api/v1/gateways/{id}/probes', { params: { path: path.value } }))),
    '',
  )
function take(which: number[]) {
  const params = { path: { ...path.value, probe: probe.value!.id! } }
  return run(async () => {
    await ask(
      api.POST('/api/v1/gateways/{id}/probes/{probe}/adoption', { params, body: { which } }),
    )
    emit('changed')
  }, 'Accepted into the record. Probe again to verify; affected parcels are now outdated.')
}
const all = () => take((probe.value?.differences ?? []).flatMap((d, i) => (d.take ? [i] : [])))

type Time = NonNullable<Schemas['ProbeRow']['times']>[number]
function timeText(t: Time) {
  if (t.state === 'answers') return `${t.method} ${t.milliseconds.toFixed(1)} ms`
  const text = closedAsExpected(t) ? 'closed, as expected' : answerText[t.state]
  return `${t.method}: ${text ?? t.state}`
}
</script>

<template>
  <section class="panel mb-4" aria-labelledby="answers">
    <div class="d-flex flex-wrap gap-3 align-items-center mb-2">
      <h2 id="answers" class="mb-0">Probe results</h2>
      <span v-if="history[0]" class="tag" :class="stateTag[history[0].state]">{{
        stateText[history[0].state]
      }}</span>
      <BButton
        class="alters ms-auto"
        size="sm"
        variant="outline-secondary"
        :disabled="asking"
        @click="probeNow"
        >{{ asking ? 'Probing…' : 'Probe now' }}</BButton
      >
    </div>
    <Notice :text="lost || (job?.problem ?? '')" />
    <p v-if="!probe" class="soft mb-0">
      Not probed yet. The service sends the first messages of each protocol on record, at most four
      packets per second, and never signs in. The interval is set on the page Organisation.
    </p>
    <template v-else>
      <p class="soft">
        Probed {{ exact(probe.at) }} by {{ probe.by }}.
        <template v-for="n in probe.names ?? []" :key="n.name"
          ><span class="mono">{{ n.name }}</span> resolves to
          {{ n.missing ? 'nothing' : (n.addresses ?? []).join(', ') }}.
        </template>
      </p>
      <AnswerTable :answers="probe.answers ?? []" />
      <h3 class="h6 mt-3">Differences from the record</h3>
      <p v-if="!probe.differences?.length" class="mb-0">None: it matches its record.</p>
      <div v-for="(d, i) in probe.differences ?? []" :key="i" class="finding" :class="d.severity">
        <p class="mb-1">
          <strong>{{ told(d.text) }}</strong>
        </p>
        <p class="mb-1">{{ told(d.fix) }}</p>
        <BButton
          v-if="d.take"
          class="alters"
          size="sm"
          variant="outline-secondary"
          :disabled="busy"
          :aria-label="`Accept into the record: ${d.text}`"
          @click="take([i])"
          >Accept into the record</BButton
        >
      </div>
      <BButton
        v-if="takeable"
        class="alters mt-2"
        size="sm"
        variant="outline-secondary"
        :disabled="busy"
        @click="all"
        >Accept all into the record</BButton
      >
      <template v-if="history.length > 1">
        <h3 class="h6 mt-4">Response times</h3>
        <TimesPlot :rows="history" />
        <details class="mt-3">
          <summary>History</summary>
          <table class="grid-table stack mt-2">
            <thead>
              <tr>
                <th scope="col">When</th>
                <th scope="col">By</th>
                <th scope="col">State</th>
                <th scope="col">Differences</th>
                <th scope="col">Answers</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="h in history" :key="h.id">
                <th scope="row">{{ exact(h.at) }}</th>
                <td data-label="By">{{ h.by }}</td>
                <td data-label="State">
                  <span class="tag" :class="stateTag[h.state]">{{ stateText[h.state] }}</span>
                </td>
                <td data-label="Differences" class="number">{{ h.differences }}</td>
                <td data-label="Answers" class="small">
                  {{ (h.times ?? []).map(timeText).join(', ') }}
                </td>
              </tr>
            </tbody>
          </table>
        </details>
      </template>
    </template>
    <div class="mt-2"><Notice :text="wrong" /><Notice :text="done" kind="done" /></div>
  </section>
</template>
