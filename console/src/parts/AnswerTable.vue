<script setup lang="ts">
// How a gateway answered, a row for each question.
import { type Answer, answerTag, answerText, closedAsExpected, shows } from './probes'

defineProps<{ answers: Answer[] }>()

/** Host and port that were asked; the port only where another one stands for that on record. */
function place(a: Answer) {
  const at = a.address.lastIndexOf(':')
  const port = a.address.slice(at + 1)
  return { host: a.address.slice(0, at), port: Number(port) === a.port ? '' : `:${port}` }
}
</script>

<template>
  <table class="grid-table stack">
    <thead>
      <tr>
        <th scope="col">Probed</th>
        <th scope="col">Port</th>
        <th scope="col">State</th>
        <th scope="col">Response time</th>
        <th scope="col">Shows</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(a, i) in answers" :key="i">
        <th scope="row">{{ a.method }}</th>
        <td data-label="Port" class="place">
          {{ a.port }} {{ a.transport.toUpperCase() }}
          <div class="soft small mono">{{ place(a).host }}<wbr />{{ place(a).port }}</div>
        </td>
        <td data-label="State">
          <span class="tag" :class="closedAsExpected(a) ? 'fine' : answerTag[a.state]">{{
            closedAsExpected(a) ? 'closed, as expected' : (answerText[a.state] ?? a.state)
          }}</span>
        </td>
        <td data-label="Response time" class="number">
          {{ a.milliseconds ? `${a.milliseconds.toFixed(1)} ms` : '' }}
        </td>
        <td data-label="Shows">
          <div v-for="line in shows(a)" :key="line" class="small">{{ line }}</div>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.place {
  min-width: 9.5rem;
}
</style>
