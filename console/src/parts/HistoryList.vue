<script setup lang="ts">
// What was done with one record, newest first.
import { api, ask, type ListQuery } from '../api/client'
import ListTable from './ListTable.vue'
import TimeText from './TimeText.vue'

const props = defineProps<{ of: string }>()
const columns = [
  { key: 'at', text: 'When', sort: 'at' },
  { key: 'operator', text: 'Operator' },
  { key: 'action', text: 'Action' },
  { key: 'detail', text: 'Detail' },
]
async function load(query: ListQuery, signal: AbortSignal) {
  query.filter = [`object:${props.of}`]
  const page = await ask(api.GET('/api/v1/audit', { params: { query }, signal }))
  return { ...page, items: page.items.map((d) => ({ ...d, id: String(d.seq) })) }
}
</script>

<template>
  <ListTable noun="entries" :columns="columns" :load="load" first="at" apart="history-">
    <template #cell="{ row, column }">
      <TimeText v-if="column === 'at'" :at="row.at" />
      <template v-else-if="column === 'operator'">{{ row.operator }}</template>
      <template v-else-if="column === 'action'">{{ row.action }}</template>
      <template v-else>{{ row.detail }}</template>
    </template>
    <template #empty>No entries yet.</template>
  </ListTable>
</template>
