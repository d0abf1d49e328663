// Follows a job of the service until it ends.
import { api, ask, type Schemas } from '../api/client'
import { useFollowed } from './useFollowed'

export function useJob(ended: () => unknown) {
  const { one, lost, follow } = useFollowed<Schemas['Job']>(
    (id) => ask(api.GET('/api/v1/jobs/{id}', { params: { path: { id } } })),
    ended,
  )
  return { job: one, lost, follow }
}
