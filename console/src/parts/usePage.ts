// One page of rows that the service keeps: asking for it, the last question winning.
import { onBeforeUnmount, ref } from 'vue'
import type { Page } from '../api/client'

type Load<Row> = (limit: number, offset: number, signal: AbortSignal) => Promise<Page<Row>>

export function usePage<Row>(size: number, load: Load<Row>) {
  const number = ref(1)
  const rows = ref<Row[]>([]) as { value: Row[] }
  const total = ref(0)
  const more = ref(false) // there are more than total says
  const busy = ref(true)
  const wrong = ref('')
  let asked = 0
  let running = new AbortController()
  onBeforeUnmount(() => running.abort())

  async function look() {
    const mine = ++asked
    running.abort() // nobody waits for that answer any more
    running = new AbortController()
    busy.value = true
    try {
      const page = await load(size, (number.value - 1) * size, running.signal)
      if (mine !== asked) return
      rows.value = page.items
      total.value = page.total
      more.value = page.more ?? false
      wrong.value = ''
    } catch (e) {
      if (mine === asked) wrong.value = (e as Error).message
    } finally {
      if (mine === asked) busy.value = false
    }
  }

  let timer = 0
  /** Looks again from the first page, after a pause in typing. */
  function soon(pause: number) {
    clearTimeout(timer)
    timer = window.setTimeout(() => {
      number.value = 1
      void look()
    }, pause)
  }

  return { number, rows, total, more, busy, wrong, look, soon }
}
