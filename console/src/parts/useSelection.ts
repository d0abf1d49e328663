// Rows of a list that are chosen, by their identifiers; or all that its search and filters fit.
import { computed, reactive, ref } from 'vue'

export function useSelection(shown: () => { id: string }[]) {
  const ids = reactive(new Set<string>())
  const all = ref(false)
  const wholePage = computed(() => shown().length > 0 && shown().every((r) => ids.has(r.id)))

  function toggle(id: string) {
    all.value = false
    if (!ids.delete(id)) ids.add(id)
  }
  function togglePage() {
    const have = wholePage.value
    all.value = false
    for (const { id } of shown()) {
      if (have) ids.delete(id)
      else ids.add(id)
    }
  }
  function clear() {
    ids.clear()
    all.value = false
  }
  return { ids, all, wholePage, toggle, togglePage, clear }
}
