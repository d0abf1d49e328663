// How the operator has set up the lists: columns, and filters that are kept under a name. It is
// kept by the service, so that it is the same in every browser.
import { reactive } from 'vue'
import { api, ask, type Schemas } from '../api/client'

export type ListView = Schemas['ListView']
const views = reactive(new Map<string, ListView>())
let asked: Promise<void> | undefined

async function read() {
  for (const v of (await ask(api.GET('/api/v1/list-views'))).items) views.set(v.list, v)
}

/** The view of a list, once it is known; empty where it was never set up. */
export async function listView(list: string): Promise<ListView> {
  asked ??= read().catch(() => {
    asked = undefined // asked again with the next list; until then it looks as made
  })
  await asked
  return views.get(list) ?? { list, hidden: [], filters: [] }
}

export async function keepListView(view: ListView) {
  await ask(api.PUT('/api/v1/list-views', { body: view }))
  views.set(view.list, view)
}

/** Forgets what was read, for whoever signs in next. */
export function forgetListViews() {
  asked = undefined
  views.clear()
}
