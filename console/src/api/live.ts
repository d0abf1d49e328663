// What changes in the service is told to pages as it happens; they look again at what they show.
import { onBeforeUnmount, ref } from 'vue'

const everything = '*'
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
function close() {
  source?.close()
  source = undefined
  connected.value = false
}

// A browser has few connections to one place, for all of its tabs: hidden ones have none, and look at
// everything once they are shown again.
document.addEventListener('visibilitychange', () => {
  if (document.hidden) close()
  else if (listeners.size && !source) {
    open()
    for (const tell of [...listeners]) tell([everything])
  }
})
/** Calls back when records of one of the kinds have changed, while the page is shown. */
export function useChanges(topics: string[], look: () => unknown) {
  if (topics.length === 0) return
  const tell = (changed: string[]) => {
    if (changed.some((t) => t === everything || topics.includes(t))) look()
  }
  listeners.add(tell)
  if (!source && !document.hidden) open()
  onBeforeUnmount(() => {
    listeners.delete(tell)
    if (!listeners.size) close()
  })
}
