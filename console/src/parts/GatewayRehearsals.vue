<script setup lang="ts">
// Rehearsals at one gateway, newest first.
import { api, ask, type ListQuery } from '../api/client'
import ListTable from './ListTable.vue'
import RehearsalState from './RehearsalState.vue'
import TimeText from './TimeText.vue'
import { told } from '../told'

const props = defineProps<{ of: string }>()
const columns = [
  { key: 'at', text: 'When', sort: 'at' },
  { key: 'device', text: 'Device', sort: 'device' },
  { key: 'state', text: 'State' },
  { key: 'cause', text: 'Most likely cause' },
]
function load(query: ListQuery, signal: AbortSignal) {
  query.filter = [`gateway_id:${props.of}`]
  return ask(api.GET('/api/v1/rehearsals', { params: { query }, signal }))
}
</script>

<template>
  <ListTable
    noun="rehearsals"
    :columns="columns"
    :load="load"
    first="at"
    apart="rehearsals-"
    :changes="['rehearsal']"
  >
    <template #cell="{ row, column }">
      <TimeText v-if="column === 'at'" :at="row.result.at" />
      <RouterLink v-else-if="column === 'device'" :to="`/profiles/${row.profile_id}?tab=rehearsal`">
        {{ row.device }}
      </RouterLink>
      <RehearsalState v-else-if="column === 'state'" :state="row.state" />
      <template v-else>{{ told(row.result.cause) }}</template>
    </template>
    <template #empty>
      Not rehearsed yet. A sample signs in with one profile of each pattern and platform.
    </template>
  </ListTable>
</template>
