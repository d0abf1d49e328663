// One page of rows that the service keeps: asking for it, the last question winning.
import { ref } from 'vue'
import type { Page } from '../api/client'

export function usePage<Row>(size: number, load: (limit: number, offset: number) => Promise<Page<Row>>) {
  const number = ref(1)
  const rows = ref<Row[]>([]) as { value: Row[] }
  const total = ref(0)
  const busy = ref(true)
  const wrong = ref('')
  let asked = 0

  async function look() {
    const mine = ++asked
    busy.value = true
    try {
      const page = await load(size, (number.value - 1) * size)
      if (mine !== asked) return
      rows.value = page.items
      total.value = page.total
      wrong.value = ''
    } catch (e) {
      if (mine === asked) wrong.value = (e as Error).message
    } finally {
      if (mine === asked) busy.value = false
    }
  }

  let timer = 0
  /** Looks anew from the first page, after a pause in typing. */
  function soon(pause: number) {
    clearTimeout(timer)
    timer = window.setTimeout(() => {
      number.value = 1
      void look()
    }, pause)
  }

  return { number, rows, total, busy, wrong, look, soon }
}
