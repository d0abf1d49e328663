<script setup lang="ts">
import { computed } from 'vue'
import { api, ask, type ListQuery } from '../../api/client'
import Field from '../../parts/Field.vue'
import ListTable from '../../parts/ListTable.vue'
import PageHead from '../../parts/PageHead.vue'
import { say } from '../../words'
import { kindText, stateTags } from '../../parts/switchovers'
import { useAddress } from '../../parts/useAddress'
import { day } from '../../parts/times'

const columns = [
  { key: 'name', text: 'Name', sort: 'name' },
  { key: 'kind', text: 'What' },
  { key: 'gateway', text: 'Gateway' },
  { key: 'state', text: 'State' },
  { key: 'moved', text: 'Moved', number: true },
  { key: 'cut_off', text: 'Old value until', sort: 'cut_off' },
]
const state = useAddress('state')
const filters = computed(() => (state.value ? [`state:${state.value}`] : []))
const states = [
  { value: '', text: 'All' },
  ...Object.keys(stateTags).map((value) => ({ value, text: value })),
]
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/switchovers', { params: { query }, signal }))
</script>

<template>
  <PageHead title="Switchovers"
    ><BButton class="alters" to="/switchovers/new" variant="primary" size="sm"
      >Plan a switchover</BButton
    ><BButton to="/calendar" variant="outline-secondary" size="sm">Calendar</BButton></PageHead
  >
  <p class="soft">
    Planned changes of the fleet from an old value to a new one. While one runs, both values are
    valid where the gateway can hold two, and devices get the new one in waves.
  </p>
  <ListTable
    noun="switchovers"
    :columns="columns"
    :load="load"
    first="created"
    :filters="filters"
    :changes="['switchover']"
  >
    <template #filter
      ><Field v-model="state" kind="choice" label="State" :choices="states"
    /></template>
    <template #cell="{ row, column }">
      <RouterLink v-if="column === 'name'" :to="`/switchovers/${row.id}`">{{
        row.name
      }}</RouterLink>
      <template v-else-if="column === 'kind'">{{ say(kindText(row.kind)) }}</template>
      <RouterLink v-else-if="column === 'gateway'" :to="`/gateways/${row.gateway_id}`">{{
        row.gateway
      }}</RouterLink>
      <span v-else-if="column === 'state'" class="tag" :class="stateTags[row.state]">{{
        row.state
      }}</span>
      <template v-else-if="column === 'moved'">{{ row.moved }} of {{ row.touched }}</template>
      <template v-else>{{ row.cut_off ? day(row.cut_off) : 'it is cut off' }}</template>
    </template>
    <template #empty>
      No switchover yet. <RouterLink to="/switchovers/new">Plan the first one</RouterLink> when a
      key, a certificate or an address changes, or see in the
      <RouterLink to="/calendar">calendar</RouterLink> what expires next.
    </template>
  </ListTable>
</template>
