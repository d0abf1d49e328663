<script setup lang="ts">
// How fast a gateway answered over time, a line for each protocol and port. The same is in the
// table below it.
import { ref } from 'vue'
import type { Schemas } from '../api/client'
import { useLineChart } from './lineChart'
import { day, exact } from './times'
import { say } from '../words'

const props = defineProps<{ rows: Schemas['ProbeRow'][] }>()
const canvas = ref<HTMLCanvasElement>()
const colours = [
  '#0b7285',
  '#c2410c',
  '#5f3dc4',
  '#2b8a3e',
  '#a61e4d',
  '#1864ab',
  '#7c5c00',
  '#495057',
]

const host = (address: string) => address.replace(/:\d+$/, '')
function series() {
  const several =
    new Set(props.rows.flatMap((r) => (r.times ?? []).map((t) => host(t.address)))).size > 1
  const named = new Map<string, { x: number; y: number | null }[]>()
  for (const row of [...props.rows].reverse()) {
    for (const t of row.times ?? []) {
      const name = several
        ? say('{0}, port {1} at {2}', t.method, t.port, host(t.address))
        : say('{0}, port {1}', t.method, t.port)
      const points = named.get(name) ?? []
      points.push({ x: Date.parse(row.at), y: t.state === 'answers' ? t.milliseconds : null })
      named.set(name, points)
    }
  }
  return [...named]
    .filter(([, points]) => points.some((p) => p.y !== null))
    .map(([label, data], i) => ({
      label,
      data,
      borderColor: colours[i % colours.length],
      backgroundColor: colours[i % colours.length],
      pointRadius: 3,
      borderWidth: 2,
      spanGaps: false,
    }))
}
useLineChart(
  canvas,
  () => props.rows,
  () => {
    if (props.rows.length === 0) return
    const span = Math.abs(
      Date.parse(props.rows[0]!.at) - Date.parse(props.rows[props.rows.length - 1]!.at),
    )
    const second = span < 6e5 ? ('2-digit' as const) : undefined
    const clock = (at: Date) =>
      at.toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', second })
    return {
      datasets: series(),
      unit: 'milliseconds',
      mode: 'nearest',
      axis: (at) => (span > 864e5 ? day(at) : clock(new Date(at))),
      title: (at) => exact(at),
    }
  },
)
</script>

<template>
  <div class="plot">
    <canvas
      ref="canvas"
      role="img"
      aria-label="Response times by protocol over time; the table below has the same data"
    />
  </div>
</template>

<style scoped>
.plot {
  height: 15rem;
  color: var(--bs-body-color);
}
</style>
