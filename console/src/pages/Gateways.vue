<script setup lang="ts">
import { api, ask, type ListQuery } from '../api/client'
import ListTable from '../parts/ListTable.vue'
import PageHead from '../parts/PageHead.vue'
import { offers } from '../parts/offers'

const columns = [
  { key: 'name', text: 'Name', sort: 'name' },
  { key: 'address', text: 'Address', sort: 'address' },
  { key: 'city', text: 'Place', sort: 'city' },
  { key: 'offers', text: 'Offers' },
  { key: 'profiles', text: 'Profiles', number: true },
]
const load = (query: ListQuery) => ask(api.GET('/api/v1/gateways', { params: { query } }))
</script>

<template>
  <PageHead title="Gateways"
    ><BButton class="alters" to="/gateways/new" variant="primary" size="sm">Add a gateway</BButton></PageHead
  >
  <ListTable noun="gateways" :columns="columns" :load="load" first="name">
    <template #cell="{ row, column }">
      <RouterLink v-if="column === 'name'" :to="`/gateways/${row.id}`">{{ row.name }}</RouterLink>
      <span v-else-if="column === 'address'" class="mono">{{ row.address }}</span>
      <template v-else-if="column === 'city'">{{
        [row.place.city, row.place.country].filter(Boolean).join(', ')
      }}</template>
      <template v-else-if="column === 'offers'">
        <span v-for="o in offers.filter((one) => row.offers[one.key])" :key="o.key" class="tag plain me-1">{{
          o.text
        }}</span>
        <span v-if="!offers.some((one) => row.offers[one.key])" class="soft">none</span>
        <span v-if="row.offers.l2tp && !row.offers.l2tp.psk_set" class="tag blocker ms-1">no key</span>
        <span v-if="row.behind_nat" class="tag plain ms-1">behind NAT</span>
      </template>
      <template v-else>{{ row.profiles }}</template>
    </template>
    <template #empty>
      No gateway yet. <RouterLink to="/gateways/new">Add the first one</RouterLink>: its address, what it offers and
      what lies behind it.
    </template>
  </ListTable>
</template>
