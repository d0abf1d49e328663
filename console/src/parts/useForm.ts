// A form over one record: what is typed, the errors beside the fields, and saving.
import { type InjectionKey, provide, reactive, type Ref, ref } from 'vue'
import { ServiceError } from '../api/client'

// Records are plain JSON; a structured clone would stumble over Vue's proxies.
const copy = <T>(from: T): T => JSON.parse(JSON.stringify(from))

/** What the parts of a form know of it; the noun is that of its record. */
export interface FormState {
  noun: string
  errors: Ref<Record<string, string>>
  wrong: Ref<string>
  done: Ref<string>
  busy: Ref<boolean>
}
export const formState = Symbol('form') as InjectionKey<FormState>

/** Something wrong that is seen before the service is asked, beside its field. */
export class FieldError extends Error {
  readonly pointer: string

  constructor(pointer: string, text: string) {
    super(text)
    this.pointer = pointer
  }
}

/** A page with several forms puts each into a RecordForm, so that fields know whose they are. */
export function useForm<T extends object>(start: T, noun = '') {
  const draft = reactive(copy(start)) as T
  const errors = ref<Record<string, string>>({})
  const wrong = ref('')
  const done = ref('')
  const busy = ref(false)

  let loaded = copy(start)
  function fill(from: T) {
    for (const key of Object.keys(draft)) delete (draft as Record<string, unknown>)[key]
    Object.assign(draft, copy(from))
    loaded = copy(from)
  }

  /**
   * Takes a later state of the record under what is typed: a field that nobody typed into gets
   * its new value.
   */
  function rebase(from: T) {
    const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b)
    const typed = (Object.keys(loaded) as (keyof T)[]).filter(
      (key) => !same(draft[key], loaded[key]),
    )
    const kept = typed.map((key) => [key, copy(draft[key] as object)] as const)
    const both = typed.filter(
      (key) => !same(loaded[key], from[key]) && !same(draft[key], from[key]),
    )
    fill(from)
    for (const [key, value] of kept) (draft as Record<keyof T, unknown>)[key] = value
    return both.map(String)
  }

  /** Runs a save; errors are put beside their fields. Returns whether it went well. */
  async function run(save: () => Promise<void>, said = 'Saved.') {
    busy.value = true
    errors.value = {}
    wrong.value = ''
    done.value = ''
    try {
      await save()
      done.value = said
      return true
    } catch (e) {
      if (e instanceof ServiceError) errors.value = e.fields
      if (e instanceof FieldError) errors.value = { [e.pointer]: e.message }
      wrong.value = (e as Error).message
      return false
    } finally {
      busy.value = false
    }
  }

  /** Something was typed that is not saved. */
  const dirty = () => JSON.stringify(draft) !== JSON.stringify(loaded)

  provide(formState, { noun, errors, wrong, done, busy })
  return { noun, draft, errors, wrong, done, busy, fill, rebase, dirty, run }
}
