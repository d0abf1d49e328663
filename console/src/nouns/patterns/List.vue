<script setup lang="ts">
import { api, ask, type ListQuery } from '../../api/client'
import ListTable from '../../parts/ListTable.vue'
import PageHead from '../../parts/PageHead.vue'
import { offers } from '../../parts/offers'
import { platformText } from '../../parts/platforms'

const columns = [
  { key: 'name', text: 'Name', sort: 'name' },
  { key: 'class', text: 'For' },
  { key: 'protocols', text: 'Protocols' },
  { key: 'gateways', text: 'Gateways' },
  { key: 'profiles', text: 'Profiles', number: true },
]
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/patterns', { params: { query }, signal }))
const protocol = (key: string) => offers.find((o) => o.key === key)?.text ?? key
const ways: Record<string, string> = {
  listed: 'first of the list',
  nearest: 'nearest',
  each: 'each',
}
</script>

<template>
  <PageHead title="Patterns"
    ><BButton class="alters" to="/patterns/new" variant="primary" size="sm"
      >Add a pattern</BButton
    ></PageHead
  >
  <p class="soft">
    A pattern sets how a class of devices connects; each device gets the best that it supports.
  </p>
  <ListTable noun="patterns" :columns="columns" :load="load" first="name">
    <template #cell="{ row, column }">
      <RouterLink v-if="column === 'name'" :to="`/patterns/${row.id}`">{{ row.name }}</RouterLink>
      <template v-else-if="column === 'class'">{{
        [...row.groups, ...row.platforms.map(platformText)].join(', ') || 'all devices'
      }}</template>
      <template v-else-if="column === 'protocols'">{{
        row.protocols.map(protocol).join(', ') || 'strongest first'
      }}</template>
      <template v-else-if="column === 'gateways'">{{ ways[row.gateways || 'listed'] }}</template>
      <RouterLink v-else :to="`/profiles?pattern_id=${row.id}`">{{ row.profiles }}</RouterLink>
    </template>
    <template #empty>
      No pattern yet. <RouterLink to="/patterns/new">Add the first one</RouterLink>: the devices
      that it applies to, protocols in order of preference, and gateways.
    </template>
  </ListTable>
</template>
