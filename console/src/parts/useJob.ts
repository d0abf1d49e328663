// Follows a job of the service until it ends.
import { onBeforeUnmount, ref } from 'vue'
import { api, ask, type Schemas, ServiceError } from '../api/client'

export function useJob(ended: () => unknown) {
  const job = ref<Schemas['Job']>()
  const lost = ref('') // why the last look failed; it is looked again
  let timer = 0
  let pause = 300
  let gone = false
  onBeforeUnmount(() => {
    gone = true
    clearTimeout(timer)
  })

  async function look() {
    if (!job.value || gone) return
    try {
      job.value = await ask(
        api.GET('/api/v1/jobs/{id}', { params: { path: { id: job.value.id } } }),
      )
      lost.value = ''
      pause = 300
    } catch (e) {
      if (e instanceof ServiceError && (e.status === 401 || e.status === 404)) {
        lost.value = e.message
        return
      }
      lost.value = `${(e as Error).message} Looking again; the job goes on meanwhile.`
      pause = Math.min(2 * pause, 10_000)
    }
    if (gone) return
    if (job.value.state === 'running') timer = window.setTimeout(() => void look(), pause)
    else ended()
  }
  function follow(j: Schemas['Job']) {
    clearTimeout(timer)
    job.value = j
    void look()
  }
  return { job, lost, follow }
}
