<script setup lang="ts">
import { computed } from 'vue'
import { api, ask, type ListQuery } from '../../api/client'
import ListTable from '../../parts/ListTable.vue'
import PageHead from '../../parts/PageHead.vue'
import { useAddress } from '../../parts/useAddress'
import { exact } from '../../parts/times'

const columns = [
  { key: 'name', text: 'Name', sort: 'name' },
  { key: 'mail', text: 'Mail', sort: 'mail' },
  { key: 'groups', text: 'Groups' },
  { key: 'accounts', text: 'Accounts', number: true },
  { key: 'devices', text: 'Devices', number: true },
]
const source = useAddress('source')
const filters = computed(() => (source.value ? [`source:${source.value}`] : []))
const sources = [
  { value: '', text: 'All' },
  { value: 'here', text: 'Added here' },
  { value: 'directory', text: 'From the directory' },
  { value: 'scim', text: 'By SCIM' },
  { value: 'missing', text: 'No longer there' },
]
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/people', { params: { query }, signal }))
</script>

<template>
  <PageHead title="People"
    ><BButton class="alters me-2" to="/imports" variant="outline-secondary" size="sm"
      >Import a table</BButton
    ><BButton class="alters" to="/people/new" variant="primary" size="sm"
      >Add a person</BButton
    ></PageHead
  >
  <ListTable
    choose="person"
    :changes="['person']"
    noun="people"
    :columns="columns"
    :load="load"
    :filters="filters"
    first="name"
  >
    <template #filter>
      <div>
        <label class="form-label" for="source">Source</label>
        <BFormSelect id="source" v-model="source" :options="sources" />
      </div>
    </template>
    <template #cell="{ row, column }">
      <template v-if="column === 'name'">
        <RouterLink :to="`/people/${row.id}`">{{ row.name }}</RouterLink>
        <span v-if="row.missing" class="tag warning ms-2" :title="`since ${exact(row.missing)}`">{{
          row.source === 'scim' ? 'deactivated' : 'no longer in the directory'
        }}</span>
      </template>
      <template v-else-if="column === 'groups'">{{ row.groups.join(', ') }}</template>
      <template v-else-if="column === 'accounts'">
        <span v-if="row.accounts === 0" class="tag warning">none</span
        ><template v-else>{{ row.accounts }}</template>
      </template>
      <template v-else-if="column === 'devices'">{{ row.devices }}</template>
      <template v-else>{{ row.mail }}</template>
    </template>
    <template #empty
      >No person yet. <RouterLink to="/people/new">Add the first one</RouterLink>, or
      <RouterLink to="/imports">import a table</RouterLink>.</template
    >
  </ListTable>
</template>
