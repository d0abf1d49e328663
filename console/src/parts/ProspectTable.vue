<script setup lang="ts">
// What a pattern would make of its devices, before anything is kept.
import { watch } from 'vue'
import { api, ask, type Merge, type Schemas } from '../api/client'
import Notice from './Notice.vue'
import Paging from './Paging.vue'
import { offers } from './offers'
import TallyTags from './TallyTags.vue'
import { usePage } from './usePage'

const props = defineProps<{ pattern: string; change: Merge<Schemas['PatternInput']> }>()
const size = 10
const { number, rows, total, busy, wrong, look, soon } = usePage<Schemas['Prospect']>(
  size,
  (limit, offset) =>
    ask(
      api.POST('/api/v1/prospects', {
        params: { query: { pattern: props.pattern || undefined, limit, offset } },
        headers: { 'Content-Type': 'application/merge-patch+json' },
        body: props.change as Schemas['PatternInput'],
      }),
    ),
)
watch(
  () => JSON.stringify(props.change),
  () => soon(400),
)
watch(number, () => void look())
void look()
defineExpose({ look })

const protocol = (key: string) => offers.find((o) => o.key === key)?.text ?? key
const states: Record<string, [string, string]> = {
  new: ['note', 'new'],
  same: ['plain', 'as it is'],
  changes: ['note', 'taken over'],
  moves: ['warning', 'moves'],
}
const reasons = (p: Schemas['Prospect']) => [
  p.why,
  ...p.passed
    .filter((o) => o.reason !== 'comes later in the order')
    .map((o) => `${protocol(o.protocol)}: ${o.reason}`),
  ...p.unmet.map((u) => `${u.wanted}: ${u.reason}`),
]
</script>

<template>
  <Notice :text="wrong" />
  <p class="soft" role="status">
    {{ busy ? 'Checking…' : `${total} devices in the class` }}
  </p>
  <p v-if="!busy && total === 0 && !wrong">No device matches: widen groups or platforms.</p>
  <table v-if="rows.length" class="grid-table stack">
    <caption class="visually-hidden">
      Effect of the pattern
    </caption>
    <thead>
      <tr>
        <th scope="col">Device</th>
        <th scope="col">Gateway</th>
        <th scope="col">Protocol</th>
        <th scope="col">File</th>
        <th scope="col">Profile</th>
        <th scope="col">Findings</th>
        <th scope="col">Why</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="p in rows" :key="p.device_id + p.gateway_id">
        <td>
          <RouterLink
            :to="p.profile_id ? `/profiles/${p.profile_id}` : `/devices/${p.device_id}`"
            >{{ p.device }}</RouterLink
          >
          <div class="soft small">{{ p.release }}</div>
        </td>
        <td data-label="Gateway">{{ p.gateway }}</td>
        <td data-label="Protocol">
          {{ protocol(p.protocol) }}<span v-if="!p.works" class="tag error ms-1">blocked</span>
        </td>
        <td data-label="File">{{ p.format || 'typed by hand' }}</td>
        <td data-label="Profile">
          <span class="tag" :class="states[p.state]?.[0]">{{ states[p.state]?.[1] }}</span>
        </td>
        <td data-label="Findings"><TallyTags :tally="p.tally" /></td>
        <td data-label="Why" class="why">
          <div v-for="r in reasons(p)" :key="r" class="soft small">{{ r }}</div>
        </td>
      </tr>
    </tbody>
  </table>
  <Paging v-model="number" :size="size" :total="total" of="devices" />
</template>

<style scoped>
.why {
  max-width: 26rem;
  white-space: normal;
}
</style>
