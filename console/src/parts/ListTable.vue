<script setup lang="ts" generic="Row extends { id: string }">
// A list that the service pages, filters and sorts.
import { computed, onMounted, ref, watch } from 'vue'
import type { ListQuery, Page } from '../api/client'
import Notice from './Notice.vue'
import ListTools from './ListTools.vue'
import Paging from './Paging.vue'
import SelectionBar from './SelectionBar.vue'
import { useChanges } from '../api/live'
import { count, say } from '../words'
import { useSelection } from './useSelection'
import { csv } from './csv'
import { save } from './files'
import { usePage } from './usePage'
import { useAddress } from './useAddress'

export interface Column {
  key: string
  text: string
  sort?: string
  number?: boolean
}
const props = defineProps<{
  noun: string
  columns: Column[]
  load: (q: ListQuery, signal: AbortSignal) => Promise<Page<Row>>
  first: string
  filters?: string[]
  apart?: string // prefix of its state in the page's address, where a page has several lists
  choose?: 'profile' | 'device' | 'person' // rows can be chosen, for actions on many
  changes?: string[] // kinds of records that it shows: it looks again when they change
}>()
defineSlots<{
  cell(props: { row: Row; column: string }): unknown
  empty(): unknown
  filter(): unknown
}>()

const one = props.noun === 'people' ? 'person' : props.noun.replace(/s$/, '')
const size = 25
const apart = props.apart ?? ''
const search = useAddress(apart + 'search')
const sort = useAddress(apart + 'sort', props.first)
const page = useAddress(apart + 'page', '1')
const { number, rows, total, more, busy, wrong, look, soon } = usePage<Row>(
  size,
  (limit, offset, signal) =>
    props.load(
      { search: search.value || undefined, sort: sort.value, limit, offset, filter: props.filters },
      signal,
    ),
)
const found = computed(() => {
  const many = count(total.value, one, props.noun)
  return more.value ? say('more than {0}', many) : many
})
number.value = Number(page.value) || 1
watch(number, (now) => (page.value = String(now)))
watch(page, (now) => (number.value = Number(now) || 1))
watch(search, () => soon(200))
watch([sort, number], () => void look())
watch(
  () => JSON.stringify(props.filters ?? []),
  () => {
    number.value = 1
    void look()
  },
)
onMounted(look)
useChanges(props.changes ?? [], () => void look())
const hidden = ref<string[]>([])
const seen = computed(() => props.columns.filter((c) => !hidden.value.includes(c.key)))
const selection = useSelection(() => rows.value)
const { ids, all, wholePage } = selection
watch([search, () => JSON.stringify(props.filters ?? [])], selection.clear)
defineExpose({ look })

// All rows that fit, a page after the other, as a table for a spreadsheet.
const saving = ref(false)
async function exported() {
  saving.value = true
  try {
    const all: Row[] = []
    const limit = 500
    for (let last = limit; last === limit;) {
      const query = { search: search.value || undefined, sort: sort.value, filter: props.filters }
      const page = await props.load(
        { ...query, limit, offset: all.length },
        new AbortController().signal,
      )
      all.push(...page.items)
      last = page.items.length
    }
    save(`${props.noun}.csv`, csv(all), true)
  } catch (e) {
    wrong.value = (e as Error).message
  } finally {
    saving.value = false
  }
}
function turn(by: string) {
  sort.value = sort.value === by ? '-' + by : by
}
function direction(c: Column) {
  if (sort.value === c.sort) return 'ascending'
  return sort.value === '-' + c.sort ? 'descending' : 'none'
}
</script>

<template>
  <div class="d-flex flex-wrap gap-3 mb-3 align-items-end">
    <div>
      <label class="form-label" :for="`search-${noun}`">Search</label>
      <BFormInput :id="`search-${noun}`" v-model="search" type="search" autocomplete="off" />
    </div>
    <slot name="filter" />
    <span class="soft ms-auto" role="status">{{ busy && !rows.length ? 'Loading…' : found }}</span>
    <ListTools v-if="!apart" v-model:hidden="hidden" :noun="noun" :columns="columns" />
    <BButton
      v-if="total > 0"
      size="sm"
      variant="outline-secondary"
      :disabled="saving"
      @click="exported"
      >{{ saving ? 'Exporting…' : 'Export CSV' }}</BButton
    >
  </div>
  <Notice :text="wrong" />
  <SelectionBar
    v-if="choose"
    :noun="choose"
    :count="all ? total : ids.size"
    :total="total"
    :more="more"
    :all="all"
    :ids="[...ids]"
    :search="search"
    :filters="filters ?? []"
    @all="all = true"
    @clear="selection.clear"
    @done="look"
  />
  <div class="panel p-0">
    <table v-if="rows.length > 0" class="grid-table stack">
      <caption class="visually-hidden">
        {{
          noun
        }}
      </caption>
      <thead>
        <tr>
          <th v-if="choose" scope="col" class="tick">
            <BFormCheckbox
              :model-value="wholePage"
              aria-label="Select this page"
              @update:model-value="selection.togglePage"
            />
          </th>
          <th
            v-for="c in seen"
            :key="c.key"
            scope="col"
            :class="{ number: c.number }"
            :aria-sort="c.sort ? direction(c) : undefined"
          >
            <button v-if="c.sort" type="button" @click="turn(c.sort)">
              {{ say(c.text)
              }}<span aria-hidden="true">{{
                { ascending: ' ↑', descending: ' ↓', none: '' }[direction(c)]
              }}</span>
            </button>
            <template v-else>{{ say(c.text) }}</template>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(row, n) in rows" :key="row.id">
          <td v-if="choose" class="tick">
            <BFormCheckbox
              :model-value="all || ids.has(row.id)"
              :aria-label="`Select row ${n + 1}`"
              @update:model-value="selection.toggle(row.id)"
            />
          </td>
          <td
            v-for="(c, i) in seen"
            :key="c.key"
            :class="{ number: c.number }"
            :data-label="i > 0 ? say(c.text) : undefined"
          >
            <slot name="cell" :row="row" :column="c.key" />
          </td>
        </tr>
      </tbody>
    </table>
    <div v-else-if="!busy && !wrong" class="p-4">
      <template v-if="search || filters?.length"
        >No matches.
        <BButton size="sm" variant="outline-secondary" @click="search = ''"
          >Clear</BButton
        ></template
      >
      <slot v-else name="empty" />
    </div>
  </div>
  <Paging v-model="number" :size="size" :total="total" :more="more" :of="noun" />
</template>
