<script setup lang="ts">
// What came of signing in to gateways with parcels: the last rehearsal of each profile, or all.
import { computed } from 'vue'
import { api, ask, type ListQuery } from '../api/client'
import ListTable from '../parts/ListTable.vue'
import PageHead from '../parts/PageHead.vue'
import RehearsalState from '../parts/RehearsalState.vue'
import RehearsalMatrix from '../parts/RehearsalMatrix.vue'
import { offers } from '../parts/offers'
import TimeText from '../parts/TimeText.vue'
import { useAddress } from '../parts/useAddress'
import { told } from '../told'

const which = useAddress('state')
const all = useAddress('all')
const filters = computed(() => (which.value ? [`state:${which.value}`] : []))
const states = [
  { value: '', text: 'All' },
  { value: 'failed', text: 'Failed' },
  { value: 'passed', text: 'Passed' },
  { value: 'stopped', text: 'Stopped' },
]
const spans = [
  { value: '', text: 'Last of each profile' },
  { value: 'yes', text: 'Every one' },
]
const columns = [
  { key: 'device', text: 'Device', sort: 'device' },
  { key: 'gateway', text: 'Gateway', sort: 'gateway' },
  { key: 'protocol', text: 'Protocol' },
  { key: 'state', text: 'State' },
  { key: 'cause', text: 'Failed at' },
  { key: 'at', text: 'When', sort: 'at' },
]
function load(query: ListQuery, signal: AbortSignal) {
  const filter = [...(query.filter ?? []), ...(all.value ? [] : ['latest:true'])]
  return ask(api.GET('/api/v1/rehearsals', { params: { query: { ...query, filter } }, signal }))
}
</script>

<template>
  <PageHead title="Rehearsals" />
  <p class="soft">
    Trial connections with parcels, as devices would make them. A parcel is rehearsed on the
    <RouterLink to="/profiles">page of its profile</RouterLink>.
  </p>
  <section class="panel mb-4" aria-labelledby="matrix">
    <h2 id="matrix">Last rehearsal of each gateway</h2>
    <RehearsalMatrix />
  </section>
  <ListTable
    :key="all"
    noun="rehearsals"
    :columns="columns"
    :load="load"
    first="at"
    :filters="filters"
    :changes="['rehearsal']"
  >
    <template #filter>
      <div>
        <label class="form-label" for="state">State</label>
        <BFormSelect id="state" v-model="which" :options="states" />
      </div>
      <div>
        <label class="form-label" for="span">Show</label>
        <BFormSelect id="span" v-model="all" :options="spans" />
      </div>
    </template>
    <template #cell="{ row, column }">
      <RouterLink v-if="column === 'device'" :to="`/profiles/${row.profile_id}`">{{
        row.device
      }}</RouterLink>
      <RouterLink v-else-if="column === 'gateway'" :to="`/gateways/${row.gateway_id}`">{{
        row.gateway
      }}</RouterLink>
      <template v-else-if="column === 'protocol'"
        >{{ offers.find((o) => o.key === row.result.protocol)?.text
        }}<span v-if="!row.parcel_id" class="soft d-block small">another offer</span></template
      >
      <RehearsalState v-else-if="column === 'state'" :state="row.state" />
      <template v-else-if="column === 'cause'">{{
        [row.result.steps.find((s) => s.state === 'failed')?.name, told(row.result.cause)]
          .filter(Boolean)
          .join(': ')
      }}</template>
      <TimeText v-else :at="row.result.at" />
    </template>
    <template #empty>No rehearsals yet.</template>
  </ListTable>
</template>
