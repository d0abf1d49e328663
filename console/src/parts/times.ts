// Moments relative to now.
import { computed, ref } from 'vue'
import { language, say } from '../words'

/** Now, to half a minute. */
export const now = ref(Date.now())
setInterval(() => (now.value = Date.now()), 30_000)

const format = computed(() => new Intl.RelativeTimeFormat(language.value, { numeric: 'auto' }))
const units = [
  ['year', 31_536_000],
  ['month', 2_592_000],
  ['week', 604_800],
  ['day', 86_400],
  ['hour', 3_600],
  ['minute', 60],
] as const

export function relative(at: string, from: number) {
  const seconds = (new Date(at).getTime() - from) / 1000
  for (const [unit, length] of units) {
    if (Math.abs(seconds) >= length) return format.value.format(Math.trunc(seconds / length), unit)
  }
  return say('just now')
}
