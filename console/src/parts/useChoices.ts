// Looks choices up by what is typed; the one that is chosen stays among them.
import { onMounted, type Ref, ref, watch } from 'vue'

export interface Choice {
  value: string
  text: string
}

/** Finds by a search; kept names the chosen one where the search did not find it. */
export function useChoices(
  model: Ref<string>,
  find: (search: string) => Promise<{ list: Choice[]; total: number }>,
  kept: (id: string) => Promise<Choice>,
) {
  const search = ref('')
  const total = ref(0)
  const wrong = ref('')
  const choices = ref<Choice[]>([])
  let asked = 0
  let timer = 0

  async function look() {
    const mine = ++asked
    try {
      const found = await find(search.value)
      const list = [...found.list]
      if (model.value && !list.some((c) => c.value === model.value))
        list.unshift(await kept(model.value))
      if (mine !== asked) return
      choices.value = list
      if (!search.value) total.value = found.total
      wrong.value = ''
    } catch (e) {
      wrong.value = (e as Error).message
    }
  }
  onMounted(look)
  watch(search, () => {
    clearTimeout(timer)
    timer = window.setTimeout(look, 200)
  })
  return { search, total, wrong, choices }
}
