<script setup lang="ts">
// Tables of records: dropped, mapped, looked at row by row, imported, and undone.
import { computed, onMounted, ref, watch } from 'vue'
import { api, ask, type ListQuery, type Schemas } from '../api/client'
import DropArea from '../parts/DropArea.vue'
import JobProgress from '../parts/JobProgress.vue'
import ListTable from '../parts/ListTable.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import { useAddress } from '../parts/useAddress'
import { useJob } from '../parts/useJob'
import { exact } from '../parts/times'
import { told } from '../told'

type Import = Schemas['RecordImport']
type Noun = Import['noun']

// It stands in the query: another path would be another page, without the file.
const chosen = useAddress('id')
const file = ref<File>()
const current = ref<Import>()
const fields = ref<Schemas['FieldsToImport'][]>([])
const noun = ref<Noun>('people')
const key = ref('')
const mapping = ref<Record<string, string>>({})
const wrong = ref('')
const busy = ref(false)
const round = ref(0) // of previews: their rows are others
const which = useAddress('outcome')

const { job, lost, follow } = useJob(async () => {
  if (current.value) await open(current.value.id)
})

async function run(work: () => Promise<void>) {
  busy.value = true
  wrong.value = ''
  try {
    await work()
  } catch (e) {
    wrong.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
onMounted(() =>
  run(async () => {
    fields.value = (await ask(api.GET('/api/v1/import-fields'))).items
  }),
)
watch(
  chosen,
  (id) => {
    if (!id) {
      current.value = undefined
      file.value = undefined
    } else if (id !== current.value?.id) void run(() => open(id))
  },
  { immediate: true },
)
async function open(id: string) {
  show(await ask(api.GET('/api/v1/record-imports/{id}', { params: { path: { id } } })))
  const { job_id: running, state } = current.value ?? {}
  if (running && (state === 'running' || state === 'undoing'))
    follow(await ask(api.GET('/api/v1/jobs/{id}', { params: { path: { id: running } } })))
}
function show(i: Import) {
  current.value = i
  noun.value = i.noun
  key.value = i.key
  mapping.value = { ...i.mapping }
  round.value++
}
/** Reads the file again; a mapping that was chosen goes with it. */
function preview(own: boolean) {
  const table = file.value
  if (!table) return
  void run(async () => {
    const data = new FormData()
    data.append('file', table, table.name)
    const query = {
      noun: noun.value,
      key: own ? key.value || undefined : undefined,
      mapping: own ? JSON.stringify(mapping.value) : undefined,
    }
    show(
      await ask(
        api.POST('/api/v1/record-imports', {
          params: { query },
          body: data as never,
          bodySerializer: (b) => b,
        }),
      ),
    )
    chosen.value = current.value?.id ?? ''
    which.value = current.value?.rows?.wrong ? 'wrong' : ''
  })
}
function add(list: File[]) {
  file.value = list[0]
  preview(false)
}
function become(state: 'imported' | 'undone') {
  const id = current.value?.id
  if (!id) return
  void run(async () => {
    const params = { path: { id } }
    follow(await ask(api.PUT('/api/v1/record-imports/{id}/state', { params, body: { state } })))
  })
}

const choices = computed(() => {
  const own = fields.value.find((f) => f.noun === noun.value)?.fields ?? []
  return [
    { value: '', text: 'Not imported' },
    ...own.map((f) => ({ value: f.name, text: f.label })),
  ]
})
const keys = computed(() =>
  (fields.value.find((f) => f.noun === noun.value)?.fields ?? [])
    .filter((f) => f.key)
    .map((f) => ({ value: f.name, text: f.label })),
)
const counts = computed(() =>
  Object.entries(current.value?.rows ?? {}).map(([what, n]) => ({
    what,
    text: `${n.toLocaleString()} ${what === 'add' || what === 'change' ? 'to ' : ''}${what}`,
  })),
)
// What was imported, or is shown without its file, cannot be mapped otherwise.
const fixed = computed(() => !file.value || current.value?.state !== 'preview')
const some = computed(() => (current.value?.rows?.add ?? 0) + (current.value?.rows?.change ?? 0))
const kinds: Record<string, string> = {
  wrong: 'error',
  refused: 'error',
  kept: 'warning',
  add: 'note',
  change: 'note',
}
const columns = [
  { key: 'line', text: 'Line', number: true },
  { key: 'title', text: 'Row' },
  { key: 'outcome', text: 'Outcome' },
  { key: 'what', text: 'What' },
]
const filters = computed(() => (which.value ? ['outcome:' + which.value] : []))
async function rows(query: ListQuery, signal: AbortSignal) {
  const path = { id: current.value?.id ?? '' }
  const page = await ask(
    api.GET('/api/v1/record-imports/{id}/rows', { params: { path, query }, signal }),
  )
  return { ...page, items: page.items.map((r) => ({ ...r, id: String(r.number) })) }
}
const history = [
  { key: 'file', text: 'File' },
  { key: 'state', text: 'State' },
  { key: 'rows', text: 'Rows', number: true },
  { key: 'created', text: 'When', sort: 'created' },
]
const imports = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/record-imports', { params: { query }, signal }))
const total = (i: Import) => Object.values(i.rows ?? {}).reduce((a, b) => a + b, 0)
</script>

<template>
  <PageHead title="Import a table" />
  <template v-if="!current">
    <p class="soft">
      People with their accounts and devices, or gateways, from a spreadsheet (CSV), JSON, YAML or a
      directory's LDIF. You see what becomes of each row before anything is added.
    </p>
    <div class="mb-3">
      <label class="form-label" for="noun">Rows are</label>
      <BFormSelect
        id="noun"
        v-model="noun"
        class="narrow"
        :options="[
          { value: 'people', text: 'People, accounts and devices' },
          { value: 'gateways', text: 'Gateways' },
        ]"
      />
    </div>
    <DropArea id="table" accept=".csv,.tsv,.txt,.json,.yaml,.yml,.ldif" @files="add"
      ><strong>Drop a table here</strong>, or <span class="pick">choose it</span>. Its first line
      has the names of the columns.</DropArea
    >
    <Notice :text="wrong" />
    <h2>Imports</h2>
    <ListTable noun="imports" :columns="history" :load="imports" first="created" apart="made-">
      <template #cell="{ row, column }">
        <RouterLink v-if="column === 'file'" :to="'/imports?id=' + row.id">{{
          row.file
        }}</RouterLink>
        <span v-else-if="column === 'state'" class="tag plain">{{ row.state }}</span>
        <template v-else-if="column === 'rows'">{{ total(row).toLocaleString() }}</template>
        <template v-else>{{ exact(row.created) }} by {{ row.operator }}</template>
      </template>
      <template #empty>No imports yet. Drop a table above.</template>
    </ListTable>
  </template>
  <template v-else>
    <p class="soft">
      <RouterLink to="/imports">All imports</RouterLink> · {{ current.file }}: {{ current.kind }} in
      {{ current.encoding }}, {{ total(current).toLocaleString() }}
      {{ total(current) === 1 ? 'row' : 'rows' }} of {{ current.noun }}
    </p>
    <Notice :text="wrong" />
    <details class="panel mb-4" :open="current.state === 'preview'">
      <summary><strong>Columns</strong></summary>
      <form class="mt-3" novalidate @submit.prevent="preview(true)">
        <div class="many">
          <div v-for="(column, i) in current.columns" :key="column">
            <label class="form-label" :for="'map-' + i">{{ column }}</label>
            <BFormSelect
              :id="'map-' + i"
              :model-value="mapping[column] ?? ''"
              :options="choices"
              :disabled="fixed"
              @update:model-value="(v) => (mapping[column] = String(v ?? ''))"
            />
          </div>
        </div>
        <div class="d-flex flex-wrap gap-3 align-items-end mt-3">
          <div>
            <label class="form-label" for="key">Match records by</label>
            <BFormSelect id="key" v-model="key" :options="keys" :disabled="fixed" />
          </div>
          <BButton v-if="!fixed" type="submit" variant="outline-secondary" :disabled="busy"
            >Preview again</BButton
          >
        </div>
      </form>
      <p v-if="!file && current.state === 'preview'" class="soft mt-2 mb-0">
        To map columns otherwise, drop the file again.
      </p>
    </details>
    <section class="panel mb-4" aria-labelledby="outcome">
      <h2 id="outcome">{{ current.state === 'preview' ? 'Preview' : 'Outcome' }}</h2>
      <p class="d-flex flex-wrap gap-2">
        <span v-for="c in counts" :key="c.what" class="tag" :class="kinds[c.what] ?? 'plain'">{{
          c.text
        }}</span>
      </p>
      <BButton
        v-if="current.state === 'preview'"
        class="alters"
        variant="primary"
        :disabled="busy || some === 0"
        @click="become('imported')"
        >Import {{ some.toLocaleString() }} {{ some === 1 ? 'row' : 'rows' }}</BButton
      >
      <BButton
        v-if="current.state === 'imported'"
        class="alters"
        variant="outline-secondary"
        :disabled="busy"
        @click="become('undone')"
        >Undo this import</BButton
      >
      <JobProgress v-if="job" v-model="job" class="mt-3" of="rows" :lost="lost" />
    </section>
    <ListTable
      :key="round"
      noun="rows"
      :columns="columns"
      :load="rows"
      first="number"
      :filters="filters"
    >
      <template #filter>
        <div>
          <label class="form-label" for="which">Outcome</label>
          <BFormSelect
            id="which"
            v-model="which"
            :options="[
              { value: '', text: 'All' },
              ...counts.map((c) => ({ value: c.what, text: c.what })),
            ]"
          />
        </div>
      </template>
      <template #cell="{ row, column }">
        <template v-if="column === 'line'">{{ row.line }}</template>
        <template v-else-if="column === 'title'">{{ row.title }}</template>
        <span v-else-if="column === 'outcome'" class="tag" :class="kinds[row.outcome] ?? 'plain'">{{
          row.outcome
        }}</span>
        <template v-else>
          <div v-for="c in row.changes" :key="c">{{ c }}</div>
          <div v-for="(p, i) in row.problems" :key="i">
            <strong>{{ p.name || 'Row' }}</strong><span class="soft">
              line {{ p.line }}<template v-if="p.column">, column {{ p.column }}</template></span
            >: found {{ told(p.found) }}, expected {{ told(p.expected)
            }}<template v-if="p.fix">; {{ told(p.fix) }}</template>
          </div>
        </template>
      </template>
      <template #empty>No rows.</template>
    </ListTable>
  </template>
</template>

<style scoped>
.many {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(12rem, 1fr));
  gap: 1rem;
}
.narrow {
  max-width: 20rem;
}
</style>
