// Moments relative to now.
import { computed, ref } from 'vue'
import { language, say } from '../words'

/** Now, to half a minute. */
export const now = ref(Date.now())
setInterval(() => (now.value = Date.now()), 30_000)

/** The language of the console, as the browser's user writes it where that is the same language. */
const locale = computed(
  () => navigator.languages.find((l) => l.startsWith(language.value)) ?? language.value,
)
type Moment = string | number | Date
/** A day, and a moment, written so that no one takes the month for the day. */
export const day = (at: Moment) =>
  new Date(at).toLocaleDateString(locale.value, { dateStyle: 'medium' })
export const moment = (at: Moment) =>
  new Date(at).toLocaleString(locale.value, { dateStyle: 'medium', timeStyle: 'short' })
/** A moment to the second. */
export const exact = (at: Moment) =>
  new Date(at).toLocaleString(locale.value, { dateStyle: 'medium', timeStyle: 'medium' })

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
