// State of a page that stands in its address: it can be linked to, and is there again when one
// comes back.
import { onBeforeUnmount, type Ref, ref, watch } from 'vue'
import { useRoute, useRouter, type Router } from 'vue-router'

let pending: Record<string, string> = {}

// Several values that change at once are one change of the address.
function write(router: Router, name: string, value: string, path: string) {
  const first = Object.keys(pending).length === 0
  pending[name] = value
  if (!first) return
  queueMicrotask(() => {
    const query = { ...router.currentRoute.value.query }
    for (const [key, one] of Object.entries(pending)) {
      if (one) query[key] = one
      else delete query[key]
    }
    pending = {}
    if (router.currentRoute.value.path === path) void router.replace({ query })
  })
}

/** A text that stands in the address under a name, unless it is the usual one. */
export function useAddress(name: string, usual = ''): Ref<string> {
  const route = useRoute()
  const router = useRouter()
  const path = route.path
  const said = () => (typeof route.query[name] === 'string' ? route.query[name] : usual)
  const value = ref(said())
  let gone = false
  onBeforeUnmount(() => (gone = true))
  watch(value, (now) => {
    if (now !== said()) write(router, name, now === usual ? '' : now, path)
  })
  watch(said, (now) => {
    if (!gone && route.path === path) value.value = now
  })
  return value
}
