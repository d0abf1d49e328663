// Follows something that the service does until it ends.
import { onBeforeUnmount, type Ref, ref } from 'vue'
import { ServiceError } from '../api/client'
import { connected, useChanges } from '../api/live'

export function useFollowed<T extends { id: string; state: string }>(
  load: (id: string) => Promise<T>,
  ended: () => unknown,
) {
  const one = ref() as Ref<T | undefined>
  const lost = ref('') // why the last look failed; it is looked again
  let timer = 0
  let pause = 300
  let gone = false
  let looking = false
  onBeforeUnmount(() => {
    gone = true
    clearTimeout(timer)
  })

  async function look() {
    if (!one.value || gone || looking) return
    looking = true
    clearTimeout(timer)
    try {
      one.value = await load(one.value.id)
      lost.value = ''
      pause = 300
    } catch (e) {
      if (e instanceof ServiceError && (e.status === 401 || e.status === 404)) {
        lost.value = e.message
        return
      }
      lost.value = `${(e as Error).message} Looking again; the work goes on meanwhile.`
      pause = Math.min(2 * pause, 10_000)
    } finally {
      looking = false
    }
    if (gone) return
    // Where changes are told, this is for those that were missed.
    const wait = connected.value ? Math.max(pause, 1000) : pause
    if (one.value?.state === 'running') timer = window.setTimeout(() => void look(), wait)
    else ended()
  }
  useChanges(['job', 'rehearsal', 'probe'], () => {
    if (one.value?.state === 'running') void look()
  })
  function follow(begun: T) {
    clearTimeout(timer)
    one.value = begun
    void look()
  }
  return { one, lost, follow }
}
