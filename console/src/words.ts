// The language of the console. English is what stands in the source; other languages are catalogues
// from that, loaded when they are chosen.
import { ref } from 'vue'

const catalogues = import.meta.glob<Record<string, string>>('./{words,served}/*.json', {
  import: 'default',
})
/** What the console says itself, and what the service says in its answers. */
const kinds = ['words', 'served']
/** Languages by their tags, as they call themselves. */
export const languages = { en: 'English', de: 'Deutsch' } as const
export type Language = keyof typeof languages

export const language = ref<Language>('en')
let words: Record<string, string> = {}
let answers: Record<string, string> = {}
/** What the service says, by its English. */
export const served = () => answers

/** What a person has chosen, else what their browser asks for. */
function wanted(): Language {
  const asked = localStorage.getItem('language') ?? navigator.language.slice(0, 2)
  return asked in languages ? (asked as Language) : 'en'
}

/** Loads the catalogue; what is shown is in it from then on. */
export async function speak(tag = wanted()) {
  const parts = kinds.map(async (kind) => (await catalogues[`./${kind}/${tag}.json`]?.()) ?? {})
  const [own, said] = tag === 'en' ? [{}, {}] : await Promise.all(parts)
  answers = said!
  words = { ...own, ...said }
  document.documentElement.lang = tag
  language.value = tag
}
export async function choose(tag: Language) {
  localStorage.setItem('language', tag)
  await speak(tag)
}

/** A text in the language of the console, with values in the places of {0}, {1} … */
export function say(text: unknown, ...values: unknown[]): string {
  if (typeof text !== 'string') return (text ?? '') as string
  const sentence = (language.value !== 'en' && words[text]) || text
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
