<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type ListQuery } from '../../api/client'
import ListTable from '../../parts/ListTable.vue'
import PageHead from '../../parts/PageHead.vue'
import TallyTags from '../../parts/TallyTags.vue'
import { platformText } from '../../parts/platforms'
import { useAddress } from '../../parts/useAddress'

const route = useRoute()
const router = useRouter()
const columns = [
  { key: 'device', text: 'Device', sort: 'device' },
  { key: 'gateway', text: 'Gateway', sort: 'gateway' },
  { key: 'person', text: 'Person', sort: 'person' },
  { key: 'platform', text: 'Platform' },
  { key: 'tally', text: 'Findings', sort: 'worst' },
]
const severity = useAddress('severity')
// Other pages lead here with one of these.
const links: Record<string, string> = { rule: 'rule', gateway_id: 'gateway', pattern_id: 'pattern' }
const fixed = computed(() => Object.keys(links).filter((name) => route.query[name]))
const filters = computed(() => [
  ...fixed.value.map((name) => `${name}:${String(route.query[name])}`),
  ...(severity.value ? [`severity:${severity.value}`] : []),
])
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/profiles', { params: { query }, signal }))
const severities = [
  { value: '', text: 'All' },
  { value: 'error', text: 'Errors' },
  { value: 'warning', text: 'Warnings' },
  { value: 'note', text: 'Notes' },
]
</script>

<template>
  <PageHead title="Profiles" />
  <p v-if="fixed.length" class="soft">
    Only those of one {{ fixed.map((name) => links[name]).join(' and one ') }}.
    <BButton size="sm" variant="outline-secondary" @click="router.push('/profiles')"
      >Show all</BButton
    >
  </p>
  <ListTable
    noun="profiles"
    choose="profile"
    :changes="['profile', 'job']"
    :columns="columns"
    :load="load"
    :filters="filters"
    first="worst"
  >
    <template #filter>
      <div>
        <label class="form-label" for="severity">With</label>
        <BFormSelect id="severity" v-model="severity" :options="severities" />
      </div>
    </template>
    <template #cell="{ row, column }">
      <RouterLink v-if="column === 'device'" :to="`/profiles/${row.id}`"
        >{{ row.device }} → {{ row.gateway }}</RouterLink
      >
      <RouterLink v-else-if="column === 'gateway'" :to="`/gateways/${row.gateway_id}`">{{
        row.gateway
      }}</RouterLink>
      <template v-else-if="column === 'person'">{{ row.person }}</template>
      <template v-else-if="column === 'platform'"
        >{{ platformText(row.platform) }} {{ row.release }}</template
      >
      <TallyTags v-else :tally="row.tally" :checked="row.checked" />
    </template>
    <template #empty>
      No profile yet. Open a <RouterLink to="/devices">device</RouterLink> and add a profile for a
      gateway.
    </template>
  </ListTable>
</template>
