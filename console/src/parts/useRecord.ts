// One record on a page: loading it, saving what was typed, what somebody else has changed
// meanwhile, and removing.
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { type Merge, ServiceError } from '../api/client'
import type { Records } from '../api/records'
import { useForm } from './useForm'
import { useUnsaved } from './unsaved'

interface Kept {
  id: string
  version: number
}

export function useRecord<Row extends Kept, Input, Draft extends object>(o: {
  of: Records<Row, Input>
  id: () => string // "new" for one that is to be added
  empty: Draft
  draftOf: (row: Row) => Draft
  body: (draft: Draft, row?: Row) => Merge<Input>
  loaded?: () => Promise<unknown> // what else the page shows of it
}) {
  const router = useRouter()
  const row = ref<Row>() as { value: Row | undefined }
  const fresh = computed(() => o.id() === 'new')
  const form = useForm(o.empty, o.of.noun)
  const { draft, run, fill, rebase, wrong, dirty } = form
  let leaves = false // it was saved or removed
  useUnsaved(() => !leaves && dirty())

  function show(now: Row) {
    row.value = now
    fill(o.draftOf(now))
  }
  const load = () => run(async () => show(await o.of.show(o.id())), '')
  onMounted(async () => {
    if (!fresh.value && !(await load())) return
    await run(async () => void (await o.loaded?.()), '')
  })

  /**
   * Reads the record again, under what was typed; names the fields that somebody else has changed
   * too.
   */
  async function renew() {
    const now = await o.of.show(o.id())
    const both = rebase(o.draftOf(now))
    row.value = now
    return both.length
      ? ` Also changed by you: ${both.join(', ')}. Saving overwrites these with yours.`
      : ''
  }
  async function reload() {
    const both = await renew()
    if (both) wrong.value = `Somebody else has changed this ${o.of.noun}.${both}`
  }

  async function save() {
    await run(async () => {
      if (fresh.value) {
        const made = await o.of.add(o.body(draft))
        leaves = true
        await router.replace(`${o.of.path}/${made.id}`)
        return
      }
      try {
        show(await o.of.change(o.id(), row.value!.version, o.body(draft, row.value)))
      } catch (e) {
        if (!(e instanceof ServiceError && e.status === 412)) throw e
        const both = (await renew()) || ' Save again to add your changes to theirs.'
        throw new Error(`Somebody else has changed this ${o.of.noun} meanwhile.${both}`)
      }
    })
  }
  async function remove() {
    await o.of.remove(o.id())
    leaves = true
  }
  return { ...form, form, row, fresh, load, reload, save, remove }
}
