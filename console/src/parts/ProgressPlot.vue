<script setup lang="ts">
// How many of something there were by a day, or on each day.
import { ref } from 'vue'
import { useLineChart } from './lineChart'
import { say } from '../words'
import { day } from './times'

export interface Line {
  key: string
  text: string
  colour: string
}
const props = defineProps<{
  days: ({ day: string } & Record<string, unknown>)[]
  lines: Line[]
  of: string // what is counted
  label: string // for who cannot see it
  total?: number // the sums up to each day, of so many
  level?: boolean // what was so stays so until a later day says otherwise
  fraction?: boolean // not whole numbers
}>()
const canvas = ref<HTMLCanvasElement>()

// Days on which nothing happened are not in what the service sends.
function everyDay() {
  const day = 864e5
  const known = new Map(props.days.map((d) => [Date.parse(d.day), d]))
  const first = Date.parse(props.days[0]!.day)
  const newest = Date.parse(props.days[props.days.length - 1]!.day)
  const end = props.level ? Date.now() - (Date.now() % day) : newest
  let last: Record<string, unknown> = {}
  return Array.from({ length: Math.round((end - first) / day) + 1 }, (_, i) => {
    const at = first + i * day
    last = known.get(at) ?? (props.level ? last : {})
    return { ...last, day: new Date(at).toISOString() }
  }) as typeof props.days
}
function series() {
  const days = props.total ? props.days : everyDay()
  const before = { x: Date.parse(props.days[0]!.day) - 864e5, y: 0 }
  return props.lines.map(({ key, text, colour }) => {
    let sum = 0
    const points = days.map((d) => {
      const n = Number(d[key] ?? 0)
      sum += n
      return { x: Date.parse(d.day), y: props.total ? sum : n }
    })
    return {
      label: say(text),
      data: props.total ? [before, ...points] : points,
      borderColor: colour,
      backgroundColor: colour,
      stepped: props.total || props.level ? ('before' as const) : false,
      pointRadius: props.level ? 0 : 2.5,
      borderWidth: 2,
    }
  })
}
useLineChart(
  canvas,
  () => props.days,
  () => {
    if (props.days.length === 0) return
    const date = (at: number) => day(at)
    return {
      datasets: series(),
      unit: say(props.of),
      mode: 'index',
      axis: (at) => new Date(at).toLocaleDateString(undefined, { day: 'numeric', month: 'short' }),
      title: date,
      most: props.total || undefined,
      step: 864e5,
      whole: !props.fraction,
    }
  },
)
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
