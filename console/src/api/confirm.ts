// What a session alone must not do: the service answers "confirm", the person proves once more
// who they are, and the request is sent again.
import { ref } from 'vue'
import { api } from './client'

/** The question that is open, with what ends it. */
export const asked = ref<{ done: (proven: boolean) => void }>()

const copies = new Map<string, Request>()

/** Has every refused request wait for the person's answer. */
export function confirming() {
  api.use({
    onRequest({ request, id }) {
      copies.set(id, request.clone())
      return undefined
    },
    async onResponse({ response, id }) {
      const again = copies.get(id)
      copies.delete(id)
      if (response.status !== 403 || !again) return undefined
      const problem = (await response.clone().json()) as { type?: string }
      if (problem.type !== 'urn:wardicon:problem:confirm') return undefined
      const proven = await new Promise<boolean>((done) => (asked.value = { done }))
      asked.value = undefined
      return proven ? fetch(again) : undefined
    },
  })
}
