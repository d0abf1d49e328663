// What was typed is not lost by going to another page, or closing the window.
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { onBeforeRouteLeave } from 'vue-router'

/** The question that is open: whether to leave. */
export const leaving = ref<(go: boolean) => void>()

export function useUnsaved(dirty: () => boolean) {
  const closing = (e: BeforeUnloadEvent) => {
    if (dirty()) e.preventDefault()
  }
  onMounted(() => addEventListener('beforeunload', closing))
  onBeforeUnmount(() => removeEventListener('beforeunload', closing))
  onBeforeRouteLeave(async () => {
    if (!dirty()) return true
    const go = await new Promise<boolean>((done) => (leaving.value = done))
    leaving.value = undefined
    return go
  })
}
