<script setup lang="ts">
import { api, ask, type ListQuery } from '../api/client'
import ListTable from '../parts/ListTable.vue'
import PageHead from '../parts/PageHead.vue'

const columns = [
  { key: 'at', text: 'When' },
  { key: 'operator', text: 'Operator' },
  { key: 'action', text: 'Did' },
  { key: 'noun', text: 'With' },
  { key: 'detail', text: 'Detail' },
]
async function load(query: ListQuery) {
  const page = await ask(api.GET('/api/v1/audit', { params: { query: { ...query, sort: undefined } } }))
  return { total: page.total, items: page.items.map((d) => ({ ...d, id: String(d.seq) })) }
}
</script>

<template>
  <PageHead title="Audit log" />
  <p class="soft">Who did and saw what, newest first. Its lines can be neither changed nor removed.</p>
  <ListTable noun="lines" :columns="columns" :load="load" first="at">
    <template #cell="{ row, column }">
      <span v-if="column === 'at'" class="text-nowrap">{{ new Date(row.at).toLocaleString() }}</span>
      <template v-else-if="column === 'operator'">{{ row.operator }}</template>
      <template v-else-if="column === 'action'">{{ row.action }}</template>
      <template v-else-if="column === 'noun'"
        >{{ row.noun }} <span class="mono soft">{{ row.object }}</span></template
      >
      <template v-else>{{ row.detail }}</template>
    </template>
    <template #empty>Nothing was done yet.</template>
  </ListTable>
</template>
