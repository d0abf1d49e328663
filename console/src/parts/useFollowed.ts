// Follows something that the service does until it ends.
import { onBeforeUnmount, type Ref, ref } from 'vue'
import { ServiceError } from '../api/client'

export function useFollowed<T extends { id: string; state: string }>(
  load: (id: string) => Promise<T>,
  ended: () => unknown,
) {
  const one = ref() as Ref<T | undefined>
  const lost = ref('') // why the last look failed; it is looked again
  let timer = 0
  let pause = 300
  let gone = false
  onBeforeUnmount(() => {
    gone = true
    clearTimeout(timer)
  })

  async function look() {
    if (!one.value || gone) return
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
    }
    if (gone) return
    if (one.value?.state === 'running') timer = window.setTimeout(() => void look(), pause)
    else ended()
  }
  function follow(begun: T) {
    clearTimeout(timer)
    one.value = begun
    void look()
  }
  return { one, lost, follow }
}
