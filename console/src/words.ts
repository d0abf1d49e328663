// The language of the console. English is what stands in the source; other languages are catalogues
// from that, loaded when they are chosen.
import { ref } from 'vue'

const catalogues = import.meta.glob<Record<string, string>>('./{words,served}/*.json', {
  import: 'default',
})
/** Languages by their tags, as they call themselves. */
export const languages = { en: 'English', de: 'Deutsch' } as const
export type Language = keyof typeof languages

export const language = ref<Language>('en')
let words: Record<string, string> = {}
let answers: Record<string, string> = {}
/** Counts when what the service says has come, so that what is shown follows. */
export const arrived = ref(0)
/** Done once it has. */
export let complete: Promise<void> = Promise.resolve()
/** What the service says, by its English. */
export const served = () => answers

/** What a person has chosen, else what their browser asks for. */
function wanted(): Language {
  const asked = localStorage.getItem('language') ?? navigator.language.slice(0, 2)
  return asked in languages ? (asked as Language) : 'en'
}

/** Loads what the console says itself; what is shown is in it from then on. */
export async function speak(tag = wanted()) {
  const load = async (kind: string) =>
    tag === 'en' ? {} : ((await catalogues[`./${kind}/${tag}.json`]?.()) ?? {})
  words = await load('words')
  answers = {}
  document.documentElement.lang = tag
  language.value = tag
  // What the service says is much, and follows: nothing waits for it but errors.
  complete = load('served').then(
    (said) => {
      if (language.value !== tag) return
      answers = said
      words = { ...words, ...said }
      arrived.value++
    },
    () => {}, // away from the service, it stays English
  )
}
export async function choose(tag: Language) {
  localStorage.setItem('language', tag)
  await speak(tag)
}

/** A text in the language of the console, with values in the places of {0}, {1} … */
export function say(text: unknown, ...values: unknown[]): string {
  if (typeof text !== 'string') return (text ?? '') as string
  const known = language.value !== 'en' && arrived.value >= 0 ? words[text] : ''
  const sentence = known || text
  return values.length
    ? sentence.replace(/\{(\d)\}/g, (_, n: string) => String(values[Number(n)] ?? ''))
    : sentence
}

/** Choices whose texts are in the language of the console. */
export function each(choices: unknown): unknown {
  if (!Array.isArray(choices)) return choices
  return choices.map((c: unknown) =>
    c && typeof c === 'object' && 'text' in c ? { ...c, text: say(c.text) } : c,
  )
}

/** So many of something, by its singular and its plural. */
export const count = (n: number, one: string, many: string) =>
  say(`{0} ${n === 1 ? one : many}`, n.toLocaleString(language.value))
