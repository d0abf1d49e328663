<script setup lang="ts">
// What a rehearsal came to: its steps while they come, then what was negotiated and the cause.
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { day } from './times'
import { told } from '../told'
import { say } from '../words'

const props = defineProps<{ rehearsal: Schemas['Rehearsal'] }>()
const result = computed(() => props.rehearsal.result)
const tag = { passed: 'fine', failed: 'error', skipped: 'plain' }
const facts = computed(() =>
  (
    [
      ['Gateway', result.value.gateway],
      ['Key exchange', result.value.suite],
      ['Tunnel', result.value.tunnel],
      ['Address', result.value.addresses.join(', ')],
      ['DNS servers', result.value.dns.join(', ')],
      // results of earlier releases have none
      ['Default route', (result.value.default ?? []).map((f) => `${f} by the tunnel`).join(', ')],
      ['Certificate', certificate.value],
    ] as [string, string | undefined][]
  ).filter(([, value]) => value),
)
const time = (ms: number) => (ms < 1 ? '< 1 ms' : `${Math.round(ms)} ms`)
const certificate = computed(() => {
  const c = result.value.certificates[0]
  return c && `${c.subject}, expires ${day(c.expires)}`
})
</script>

<template>
  <div>
    <table class="grid-table stack">
      <thead>
        <tr>
          <th scope="col">Step</th>
          <th scope="col">State</th>
          <th scope="col">Time</th>
          <th scope="col">Result</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in result.steps" :key="s.name">
          <td class="step text-nowrap">{{ say(s.name) }}</td>
          <td>
            <span class="tag" :class="tag[s.state]">{{ say(s.state) }}</span>
          </td>
          <td class="text-nowrap">
            {{ s.state === 'skipped' ? '' : time(s.took_ms) }}
          </td>
          <td class="text-break">{{ told(s.found) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="rehearsal.state === 'running'" class="soft mb-0">Signing in…</p>
    <p v-if="rehearsal.state === 'stopped'" class="soft mb-0">
      Interrupted when the service stopped. Rehearse again.
    </p>
    <div v-if="result.cause" class="mt-2">
      <strong>Likely cause:</strong> {{ told(result.cause) }}<br />
      <span class="soft">{{ told(result.fix) }}</span>
    </div>
    <ul v-if="result.differences.length" class="mt-2 mb-0">
      <li v-for="d in result.differences" :key="d">{{ told(d) }}</li>
    </ul>
    <dl v-if="rehearsal.state !== 'running' && facts.length" class="facts mt-3 mb-0">
      <template v-for="[name, value] in facts" :key="name">
        <dt>{{ name }}</dt>
        <dd class="text-break">{{ value }}</dd>
      </template>
    </dl>
  </div>
</template>

<style scoped>
.step::first-letter {
  text-transform: uppercase;
}
</style>
