<script setup lang="ts">
// How many of something there were by a day, or on each day.
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

export interface Line {
  key: string
  text: string
  colour: string
}
Chart.register(LineController, LineElement, LinearScale, PointElement, Legend, Tooltip, Filler)
const props = defineProps<{
  days: ({ day: string } & Record<string, unknown>)[]
  lines: Line[]
  of: string // what is counted
  label: string // for who cannot see it
  total?: number // the sums up to each day, of so many
}>()
const canvas = ref<HTMLCanvasElement>()
let chart: Chart | undefined

// Days on which nothing happened are not in what the service sends.
function everyDay() {
  const day = 864e5
  const known = new Map(props.days.map((d) => [Date.parse(d.day), d]))
  const first = Date.parse(props.days[0]!.day)
  const last = Date.parse(props.days[props.days.length - 1]!.day)
  return Array.from({ length: Math.round((last - first) / day) + 1 }, (_, i) => {
    const at = first + i * day
    return known.get(at) ?? { day: new Date(at).toISOString() }
  }) as typeof props.days
}
function draw() {
  chart?.destroy()
  if (!canvas.value || props.days.length === 0) return
  const ink = getComputedStyle(canvas.value).color
  const day = 864e5
  const first = Date.parse(props.days[0]!.day) - day
  const days = props.total ? props.days : everyDay()
  const datasets = props.lines.map(({ key, text, colour }) => {
    let sum = 0
    const data = props.total ? [{ x: first, y: 0 }] : []
    for (const d of days) {
      const n = Number(d[key] ?? 0)
      sum = props.total ? sum + n : n
      data.push({ x: Date.parse(d.day), y: sum })
    }
    return {
      label: text,
      data,
      borderColor: colour,
      backgroundColor: colour,
      stepped: props.total ? ('before' as const) : false,
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
          max: props.total || undefined,
          title: { display: true, text: props.of, color: ink },
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
    <canvas ref="canvas" role="img" :aria-label="label" />
  </div>
</template>

<style scoped>
.plot {
  height: 15rem;
  color: var(--bs-body-color);
}
</style>
