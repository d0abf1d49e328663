<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, type ListQuery, type Schemas } from '../api/client'
import ListTable from '../parts/ListTable.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import TimeText from '../parts/TimeText.vue'
import { useAddress } from '../parts/useAddress'
import { say } from '../words'

const columns = [
  { key: 'at', text: 'When', sort: 'at' },
  { key: 'operator', text: 'Operator' },
  { key: 'action', text: 'Did' },
  { key: 'noun', text: 'With' },
  { key: 'detail', text: 'Detail' },
]
async function load(query: ListQuery, signal: AbortSignal) {
  const page = await ask(api.GET('/api/v1/audit', { params: { query }, signal }))
  return { ...page, items: page.items.map((d) => ({ ...d, id: String(d.seq) })) }
}
const operator = useAddress('operator')
const days = useAddress('days')
const filters = computed(() =>
  [operator.value && 'operator:' + operator.value, days.value && 'days:' + days.value].filter(
    Boolean,
  ),
)
const spans = [
  { value: '', text: 'Any time' },
  { value: '1', text: 'In the last 24 hours' },
  { value: '7', text: 'In the last 7 days' },
  { value: '30', text: 'In the last 30 days' },
]
const proof = ref<Schemas['AuditProof']>()
const broken = ref('')
async function verify() {
  try {
    proof.value = await ask(api.GET('/api/v1/audit-proof'))
  } catch (e) {
    broken.value = (e as Error).message
  }
}
</script>

<template>
  <PageHead title="Audit log">
    <BButton size="sm" variant="outline-secondary" @click="verify">Verify the log</BButton>
  </PageHead>
  <p class="soft">
    Who did what and who saw which secret, newest first. Entries can be neither changed nor removed.
  </p>
  <Notice :text="broken" />
  <p v-if="proof" class="finding" :class="proof.sound ? 'note' : 'error'" role="status">
    <template v-if="proof.sound"
      >{{ proof.lines }} entries are unchanged. Keep this head elsewhere, to notice entries removed
      at the end: <span class="mono">{{ proof.head }}</span></template
    >
    <template v-else
      >Line {{ proof.first }} was changed, or the entry before it was removed.</template
    >
  </p>
  <ListTable noun="lines" :columns="columns" :load="load" first="at" :filters="filters">
    <template #filter>
      <div>
        <label class="form-label" for="operator">Operator</label>
        <BFormInput id="operator" v-model.trim.lazy="operator" autocomplete="off" />
      </div>
      <div>
        <label class="form-label" for="days">Period</label>
        <BFormSelect id="days" v-model="days" :options="spans" />
      </div>
    </template>
    <template #cell="{ row, column }">
      <TimeText v-if="column === 'at'" :at="row.at" />
      <template v-else-if="column === 'operator'">{{ row.operator }}</template>
      <template v-else-if="column === 'action'">{{ say(row.action) }}</template>
      <template v-else-if="column === 'noun'"
        >{{ say(row.noun) }} <span class="mono soft">{{ row.object }}</span></template
      >
      <template v-else>{{ row.detail }}</template>
    </template>
    <template #empty>No entries yet.</template>
  </ListTable>
</template>
