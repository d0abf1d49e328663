<script setup lang="ts">
// The work list over the whole fleet: what is wrong, counted and one by one.
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, type ListQuery, type Schemas } from '../api/client'
import ListTable from '../parts/ListTable.vue'
import FixPanel from '../parts/FixPanel.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import { useAddress } from '../parts/useAddress'
import { say } from '../words'
import { day } from '../parts/times'
import { told } from '../told'

type By = 'rule' | 'gateway' | 'person'
type Sum = Schemas['FindingSum']

const route = useRoute()
const by = ref<By>('rule')
const sums = ref<Sum[]>([])
const wrong = ref('')
const picked = ref<Sum>()
const severity = useAddress('severity')
const fresh = ref(false)
const stamp = ref(0)
const done = ref('')
const days = 7

async function count() {
  try {
    const query = { by: by.value, days }
    sums.value = (await ask(api.GET('/api/v1/finding-sums', { params: { query } }))).items
    wrong.value = ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
onMounted(async () => {
  await count()
  picked.value = sums.value.find((s) => s.key === route.query.rule)
})
watch(by, () => {
  picked.value = undefined
  void count()
})

const keys: Record<By, string> = { rule: 'rule', gateway: 'gateway_id', person: 'person_id' }
const filters = computed(() => [
  ...(picked.value ? [`${keys[by.value]}:${picked.value.key}`] : []),
  ...(severity.value ? [`severity:${severity.value}`] : []),
  ...(fresh.value ? [`days:${days}`] : []),
])
async function load(query: ListQuery, signal: AbortSignal) {
  const page = await ask(api.GET('/api/v1/findings', { params: { query }, signal }))
  return {
    ...page,
    items: page.items.map((f, i) => ({ ...f, id: `${f.profile_id}${f.rule}${i}` })),
  }
}
const columns = [
  { key: 'severity', text: 'Finding', sort: 'severity' },
  { key: 'device', text: 'Device', sort: 'device' },
  { key: 'gateway', text: 'Gateway', sort: 'gateway' },
  { key: 'person', text: 'Person', sort: 'person' },
  { key: 'since', text: 'Since', sort: 'since' },
]
const severities = [
  { value: '', text: 'All' },
  { value: 'error', text: 'Errors' },
  { value: 'warning', text: 'Warnings' },
  { value: 'note', text: 'Notes' },
]
const modes = [
  { value: 'rule', text: 'Rule' },
  { value: 'gateway', text: 'Gateway' },
  { value: 'person', text: 'Person' },
]
const pages: Record<string, string> = {
  gateway: '/gateways/',
  device: '/devices/',
  pattern: '/patterns/',
}
function place(f: Schemas['FleetFinding']) {
  if (f.noun === 'account') return `/people/${f.person_id}?tab=accounts`
  if (f.noun === 'person') return `/people/${f.person_id}`
  return pages[f.noun] ? pages[f.noun] + f.object : `/profiles/${f.profile_id}`
}
async function again(said: string) {
  done.value = said
  await count()
  stamp.value++
  picked.value = sums.value.find((s) => s.key === picked.value?.key)
}
const total = (s: Sum) => s.tally.errors + s.tally.warnings + s.tally.notes
const open = computed(() => sums.value.filter((s) => total(s) > 0))
const ended = computed(() => sums.value.reduce((n, s) => n + s.ended, 0))
const news = computed(() => sums.value.reduce((n, s) => n + s.new, 0))
const counts = (s: Sum) => [
  { text: 'Errors', count: s.tally.errors },
  { text: 'Warnings', count: s.tally.warnings },
  { text: 'Notes', count: s.tally.notes },
  { text: 'New', count: s.new },
  { text: 'Resolved', count: s.ended },
]
</script>

<template>
  <PageHead title="Findings" />
  <p class="soft" role="status">
    In the last {{ days }} days: {{ news }} new findings, {{ ended }} resolved.
  </p>
  <Notice :text="wrong" /><Notice :text="done" kind="done" />
  <section class="panel mb-4" aria-labelledby="sums">
    <div class="d-flex flex-wrap gap-3 align-items-end mb-3">
      <h2 id="sums" class="mb-0 me-auto">Totals</h2>
      <div>
        <label class="form-label" for="by">Count by</label>
        <BFormSelect id="by" v-model="by" :options="modes" />
      </div>
    </div>
    <p v-if="open.length === 0" class="mb-0">No findings.</p>
    <div v-else class="counted" tabindex="0" role="region" aria-label="Table of counts">
      <table class="grid-table stack">
        <thead>
          <tr>
            <th scope="col">{{ say(modes.find((m) => m.value === by)?.text) }}</th>
            <th scope="col" class="number">Errors</th>
            <th scope="col" class="number">Warnings</th>
            <th scope="col" class="number">Notes</th>
            <th scope="col" class="number">New</th>
            <th scope="col" class="number">Resolved</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in open" :key="s.key" :class="{ picked: picked?.key === s.key }">
            <td>
              <button
                type="button"
                class="link"
                :aria-pressed="picked?.key === s.key"
                @click="picked = picked?.key === s.key ? undefined : s"
              >
                {{ say(s.title) }}
              </button>
              <span v-if="s.fixable" class="tag plain ms-2">fixable</span>
            </td>
            <td
              v-for="n in counts(s)"
              :key="n.text"
              class="number"
              :data-label="n.count ? n.text : undefined"
            >
              {{ n.count || '' }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>

  <FixPanel
    v-if="picked && by === 'rule' && picked.fixable"
    :key="picked.key"
    :rule="picked.key"
    :title="picked.title"
    @fixed="again"
  />

  <ListTable
    :key="stamp"
    noun="findings"
    :columns="columns"
    :load="load"
    :filters="filters"
    first="severity"
  >
    <template #filter>
      <div>
        <label class="form-label" for="severity">Severity</label>
        <BFormSelect id="severity" v-model="severity" :options="severities" />
      </div>
      <BFormCheckbox v-model="fresh" switch class="mb-2">New in {{ days }} days</BFormCheckbox>
      <BButton
        v-if="picked"
        size="sm"
        variant="outline-secondary"
        class="mb-1"
        @click="picked = undefined"
        >Only {{ say(picked.title) }}: show all</BButton
      >
    </template>
    <template #cell="{ row, column }">
      <template v-if="column === 'severity'">
        <span class="tag me-2" :class="row.severity">{{ say(row.severity) }}</span>
        <strong>{{ say(row.title) }}</strong><span v-if="row.overridden" class="tag plain ms-2"
          >passed</span
        >
        <details class="small">
          <summary class="mono" :title="row.found">{{ told(row.found) }}</summary>
          {{ told(row.fix) }} <RouterLink :to="place(row)">Open the record</RouterLink>
        </details>
      </template>
      <RouterLink
        v-else-if="column === 'device' && row.profile_id"
        :to="`/profiles/${row.profile_id}`"
        >{{ row.device }}</RouterLink
      >
      <span v-else-if="column === 'device'" class="soft">all</span>
      <template v-else-if="column === 'gateway'">{{ row.gateway }}</template>
      <template v-else-if="column === 'person'">{{ row.person }}</template>
      <span v-else class="text-nowrap">{{ day(row.since) }}</span>
    </template>
    <template #empty>No findings.</template>
  </ListTable>
</template>

<style scoped>
.counted {
  max-height: 15.5rem;
  overflow: auto;
}
summary {
  max-width: min(34rem, 75vw);
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
details[open] summary {
  white-space: normal;
}
.link {
  border: 0;
  background: none;
  padding: 0;
  color: inherit;
  text-align: left;
  text-decoration: underline;
}
.picked td:first-child {
  box-shadow: inset 4px 0 0 currentcolor;
  padding-left: 0.75rem;
}
</style>
