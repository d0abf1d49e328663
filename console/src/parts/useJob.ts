// Follows a job of the service until it ends.
import { onBeforeUnmount, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'

export function useJob(ended: () => unknown) {
  const job = ref<Schemas['Job']>()
  let timer = 0
  onBeforeUnmount(() => clearTimeout(timer))

  async function look() {
    if (!job.value) return
    job.value = await ask(api.GET('/api/v1/jobs/{id}', { params: { path: { id: job.value.id } } }))
    if (job.value.state === 'running') timer = window.setTimeout(() => void look(), 300)
    else ended()
  }
  function follow(j: Schemas['Job']) {
    job.value = j
    void look()
  }
  return { job, follow }
}
