<script setup lang="ts">
import { computed } from 'vue'
import { api, ask, type ListQuery } from '../../api/client'
import ListTable from '../../parts/ListTable.vue'
import PageHead from '../../parts/PageHead.vue'
import TallyTags from '../../parts/TallyTags.vue'
import { platforms, platformText } from '../../parts/platforms'
import { useAddress } from '../../parts/useAddress'

const columns = [
  { key: 'name', text: 'Name', sort: 'name' },
  { key: 'person', text: 'Person', sort: 'person' },
  { key: 'platform', text: 'Platform', sort: 'platform' },
  { key: 'profiles', text: 'Profiles', number: true },
  { key: 'tally', text: 'Findings' },
]
const platform = useAddress('platform')
const filters = computed(() => (platform.value ? [`platform:${platform.value}`] : []))
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/devices', { params: { query }, signal }))
</script>

<template>
  <PageHead title="Devices"
    ><BButton class="alters me-2" to="/imports" variant="outline-secondary" size="sm"
      >Import a table</BButton
    ><BButton class="alters" to="/devices/new" variant="primary" size="sm"
      >Add a device</BButton
    ></PageHead
  >
  <ListTable
    noun="devices"
    choose="device"
    :changes="['device']"
    :columns="columns"
    :load="load"
    :filters="filters"
    first="name"
  >
    <template #filter>
      <div>
        <label class="form-label" for="platform">Platform</label>
        <BFormSelect
          id="platform"
          v-model="platform"
          :options="[{ value: '', text: 'All' }, ...platforms]"
        />
      </div>
    </template>
    <template #cell="{ row, column }">
      <RouterLink v-if="column === 'name'" :to="`/devices/${row.id}`">{{ row.name }}</RouterLink>
      <RouterLink v-else-if="column === 'person'" :to="`/people/${row.person_id}`">{{
        row.person
      }}</RouterLink>
      <template v-else-if="column === 'platform'"
        >{{ platformText(row.platform) }} {{ row.release }}</template
      >
      <template v-else-if="column === 'profiles'">{{ row.profiles }}</template>
      <TallyTags v-else-if="row.profiles > 0" :tally="row.tally" />
      <span v-else class="soft">no profile yet</span>
    </template>
    <template #empty
      >No device yet. <RouterLink to="/devices/new">Add the first one</RouterLink>.</template
    >
  </ListTable>
</template>
