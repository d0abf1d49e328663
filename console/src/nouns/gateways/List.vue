<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, type ListQuery } from '../../api/client'
import { useSession } from '../../api/session'
import JobProgress from '../../parts/JobProgress.vue'
import ListTable from '../../parts/ListTable.vue'
import Notice from '../../parts/Notice.vue'
import PageHead from '../../parts/PageHead.vue'
import { offers } from '../../parts/offers'
import { stateTag, stateText } from '../../parts/probes'
import { useForm } from '../../parts/useForm'
import { useJob } from '../../parts/useJob'
import { useAddress } from '../../parts/useAddress'

const session = useSession()
const columns = [
  { key: 'name', text: 'Name', sort: 'name' },
  { key: 'address', text: 'Address', sort: 'address' },
  { key: 'city', text: 'Place', sort: 'city' },
  { key: 'offers', text: 'Offers' },
  { key: 'answers', text: 'Answers' },
  { key: 'profiles', text: 'Profiles', number: true },
]
const table = ref<{ look: () => Promise<void> }>()
const answers = useAddress('answers')
const filters = computed(() => (answers.value ? [`answers:${answers.value}`] : undefined))
const states = [
  { value: '', text: 'any' },
  ...Object.entries(stateText).map(([value, text]) => ({ value, text })),
]
const { wrong, run } = useForm({})
const { job, lost, follow } = useJob(() => table.value?.look())
const probeAll = () => run(async () => follow(await ask(api.POST('/api/v1/gateway-probes'))), '')
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/gateways', { params: { query }, signal }))
</script>

<template>
  <PageHead title="Gateways"
    ><BButton
      class="alters me-2"
      variant="outline-secondary"
      size="sm"
      :disabled="job?.state === 'running'"
      @click="probeAll"
      >Probe all gateways</BButton
    ><BButton
      v-if="session.may('owner')"
      class="me-2"
      to="/gateways/ask"
      variant="outline-secondary"
      size="sm"
      >Probe an address</BButton
    ><BButton class="alters" to="/gateways/new" variant="primary" size="sm"
      >Add a gateway</BButton
    ></PageHead
  >
  <Notice :text="wrong" />
  <JobProgress v-if="job" v-model="job" class="mb-3" of="gateways" :lost="lost" />
  <ListTable
    ref="table"
    noun="gateways"
    :columns="columns"
    :load="load"
    first="name"
    :filters="filters"
  >
    <template #filter>
      <div>
        <label class="form-label" for="answers-filter">Answers</label>
        <BFormSelect id="answers-filter" v-model="answers" :options="states" />
      </div>
    </template>
    <template #cell="{ row, column }">
      <RouterLink v-if="column === 'name'" :to="`/gateways/${row.id}`">{{ row.name }}</RouterLink>
      <span v-else-if="column === 'address'" class="mono"
        ><template v-for="(part, i) in row.address.split('.')" :key="i"
          ><wbr v-if="i" />{{ (i ? '.' : '') + part }}</template
        ></span
      >
      <template v-else-if="column === 'city'">{{
        [row.place.city, row.place.country].filter(Boolean).join(', ')
      }}</template>
      <template v-else-if="column === 'offers'">
        <span
          v-for="o in offers.filter((one) => row.offers[one.key])"
          :key="o.key"
          class="tag plain me-1"
          >{{ o.text }}</span
        >
        <span v-if="!offers.some((one) => row.offers[one.key])" class="soft">none</span>
        <span v-if="row.offers.l2tp && !row.offers.l2tp.psk_set" class="tag error ms-1"
          >no key</span
        >
        <span v-if="row.behind_nat" class="tag plain ms-1">behind NAT</span>
      </template>
      <template v-else-if="column === 'answers'">
        <span v-if="row.answers" class="tag" :class="stateTag[row.answers]">{{
          stateText[row.answers]
        }}</span>
        <span v-else class="soft">not probed</span>
      </template>
      <template v-else>{{ row.profiles }}</template>
    </template>
    <template #empty>
      No gateway yet. <RouterLink to="/gateways/new">Add the first one</RouterLink>: its address,
      its offers and the networks behind it.
    </template>
  </ListTable>
</template>
