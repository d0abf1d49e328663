// What changes in the service is told to pages as it happens; they look again at what they show.
import { onBeforeUnmount, ref } from 'vue'

const listeners = new Set<(topics: string[]) => void>()
let source: EventSource | undefined
/** Changes are told now; otherwise pages look by themselves. */
export const connected = ref(false)

function open() {
  source = new EventSource('/api/v1/changes')
  source.onopen = () => (connected.value = true)
  source.onerror = () => (connected.value = false)
  source.addEventListener('change', (e) => {
    const { topics } = JSON.parse(e.data as string) as { topics: string[] }
    for (const tell of [...listeners]) tell(topics)
  })
}

/** Calls back when records of one of the kinds have changed, while the page is shown. */
export function useChanges(topics: string[], look: () => unknown) {
  if (topics.length === 0) return
  const tell = (changed: string[]) => {
    if (changed.some((t) => topics.includes(t))) look()
  }
  listeners.add(tell)
  if (!source) open()
  onBeforeUnmount(() => {
    listeners.delete(tell)
    if (listeners.size) return
    source?.close()
    source = undefined
    connected.value = false
  })
}
