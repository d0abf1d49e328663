<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, type ListQuery } from '../api/client'
import ListTable from '../parts/ListTable.vue'
import PageHead from '../parts/PageHead.vue'
import ToDoList from '../parts/ToDoList.vue'
import { useAddress } from '../parts/useAddress'
import { day } from '../parts/times'

const columns = [
  { key: 'name', text: 'Person or device', sort: 'created' },
  { key: 'why', text: 'Why' },
  { key: 'items', text: 'Left to do' },
]
const which = useAddress('show')
const filters = computed(() => (which.value ? [which.value] : []))
const choices = [
  { value: 'open:true', text: 'With open items' },
  { value: 'open:false', text: 'Done' },
  { value: '', text: 'All' },
]
const changes = ref(0)
const pages: Record<string, string> = { person: '/people/', device: '/devices/' }
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/offboardings', { params: { query }, signal }))
</script>

<template>
  <PageHead title="Offboarding" />
  <p class="soft">
    People who left and devices that were lost, with what is left to do. Start on the page of the
    person or device.
  </p>
  <ListTable
    :key="changes"
    noun="offboardings"
    :columns="columns"
    :load="load"
    first="created"
    :filters="filters"
  >
    <template #filter>
      <div>
        <label class="form-label" for="which">Which</label>
        <BFormSelect id="which" v-model="which" :options="choices" />
      </div>
    </template>
    <template #cell="{ row, column }">
      <template v-if="column === 'name'">
        <RouterLink :to="(pages[row.noun] ?? '/') + row.object">{{ row.name }}</RouterLink>
        <div class="soft small">{{ day(row.created) }} by {{ row.operator }}</div>
      </template>
      <span v-else-if="column === 'why'" class="tag plain">{{ row.why }}</span>
      <ToDoList v-else :offboarding="row" @changed="changes++" />
    </template>
    <template #empty>No offboardings yet.</template>
  </ListTable>
</template>
