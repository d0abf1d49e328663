<script setup lang="ts">
// How many devices had come to each state by a day. The same numbers are in the list of waves.
import {
  Chart,
  Filler,
  Legend,
  LinearScale,
  LineController,
  LineElement,
  PointElement,
  Tooltip,
} from 'chart.js'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Schemas } from '../api/client'

Chart.register(LineController, LineElement, LinearScale, PointElement, Legend, Tooltip, Filler)
const props = defineProps<{ days: Schemas['SwitchoverDay'][]; total: number }>()
const canvas = ref<HTMLCanvasElement>()
const lines = [
  { key: 'released', text: 'Released', colour: '#868e96' },
  { key: 'handed_over', text: 'Handed over', colour: '#1864ab' },
  { key: 'taken', text: 'Taken', colour: '#5f3dc4' },
  { key: 'connected', text: 'Connected', colour: '#2b8a3e' },
] as const
let chart: Chart | undefined

function draw() {
  chart?.destroy()
  if (!canvas.value || props.days.length === 0) return
  const ink = getComputedStyle(canvas.value).color
  const day = 864e5
  const first = Date.parse(props.days[0]!.day) - day
  const datasets = lines.map(({ key, text, colour }) => {
    let sum = 0
    const data = [{ x: first, y: 0 }]
    for (const d of props.days) data.push({ x: Date.parse(d.day), y: (sum += d[key]) })
    return {
      label: text,
      data,
      borderColor: colour,
      backgroundColor: colour,
      stepped: 'before' as const,
      pointRadius: 2.5,
      borderWidth: 2,
    }
  })
  chart = new Chart(canvas.value, {
    type: 'line',
    data: { datasets },
    options: {
      animation: false,
      maintainAspectRatio: false,
      interaction: { mode: 'index', intersect: false },
      plugins: {
        legend: { position: 'bottom', labels: { color: ink, boxWidth: 14 } },
        tooltip: {
          callbacks: { title: (items) => new Date(items[0]!.parsed.x!).toLocaleDateString() },
        },
      },
      scales: {
        x: {
          type: 'linear',
          ticks: {
            color: ink,
            stepSize: day,
            callback: (v) => new Date(Number(v)).toLocaleDateString(),
            maxTicksLimit: 8,
          },
          grid: { display: false },
        },
        y: {
          beginAtZero: true,
          max: props.total,
          title: { display: true, text: 'devices', color: ink },
          ticks: { color: ink, precision: 0 },
          grid: { color: '#88888833' },
        },
      },
    },
  })
}
onMounted(draw)
watch(() => props.days, draw)
onBeforeUnmount(() => chart?.destroy())
</script>

<template>
  <div class="plot">
    <canvas
      ref="canvas"
      role="img"
      aria-label="Devices by state over time; the list of waves has the same numbers of today"
    />
  </div>
</template>

<style scoped>
.plot {
  height: 15rem;
  color: var(--bs-body-color);
}
</style>
