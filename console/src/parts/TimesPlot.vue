<script setup lang="ts">
// How fast a gateway answered over time, a line for each protocol and port. The same is in the
// table below it.
import {
  Chart,
  LineController,
  LineElement,
  LinearScale,
  PointElement,
  Legend,
  Tooltip,
} from 'chart.js'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Schemas } from '../api/client'

Chart.register(LineController, LineElement, LinearScale, PointElement, Legend, Tooltip)
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
let chart: Chart | undefined

const host = (address: string) => address.replace(/:\d+$/, '')
function series() {
  const several =
    new Set(props.rows.flatMap((r) => (r.times ?? []).map((t) => host(t.address)))).size > 1
  const named = new Map<string, { x: number; y: number | null }[]>()
  for (const row of [...props.rows].reverse()) {
    for (const t of row.times ?? []) {
      const name = `${t.method}, port ${t.port}` + (several ? ` at ${host(t.address)}` : '')
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
function draw() {
  chart?.destroy()
  if (!canvas.value) return
  const ink = getComputedStyle(canvas.value).color
  const span = Math.abs(
    Date.parse(props.rows[0]!.at) - Date.parse(props.rows[props.rows.length - 1]!.at),
  )
  const second = span < 6e5 ? ('2-digit' as const) : undefined
  const clock = (at: Date) =>
    at.toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', second })
  const axis = (v: number | string) =>
    span > 864e5 ? new Date(Number(v)).toLocaleDateString() : clock(new Date(Number(v)))
  chart = new Chart(canvas.value, {
    type: 'line',
    data: { datasets: series() as never },
    options: {
      animation: false,
      maintainAspectRatio: false,
      interaction: { mode: 'nearest', intersect: false },
      plugins: {
        legend: { position: 'bottom', labels: { color: ink, boxWidth: 14 } },
        tooltip: {
          callbacks: { title: (items) => new Date(items[0]!.parsed.x!).toLocaleString() },
        },
      },
      scales: {
        x: {
          type: 'linear',
          ticks: { color: ink, callback: axis, maxTicksLimit: 7 },
          grid: { display: false },
        },
        y: {
          beginAtZero: true,
          title: { display: true, text: 'milliseconds', color: ink },
          ticks: { color: ink },
          grid: { color: '#88888833' },
        },
      },
    },
  })
}
onMounted(draw)
watch(() => props.rows, draw)
onBeforeUnmount(() => chart?.destroy())
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
