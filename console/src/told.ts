// What the service tells, in the language of the console: whole sentences, and those with values
// of records in them.
import { arrived, language, say, served } from './words'

interface Pattern {
  says: RegExp
  text: string // with the same values
  order: number[]
}

let made = -1
let patterns: Pattern[] = []

const value = /\{(\d)\}/g

// What is no value but a part of another sentence: half of it in another language would help nobody.
const english = /\b(a|and|are|at|by|for|has|is|it|no|not|of|one|that|the|which|while|with)\b/

const foreign = (text: string) => english.test(text.replace(/"[^"]*"/g, ''))

/** Sentences with values, the ones that say most first. */
function all(): Pattern[] {
  if (made === arrived.value) return patterns
  made = arrived.value
  patterns = Object.entries(served())
    .filter(([key]) => key.match(value))
    .map(([key, text]) => {
      const literal = key.replace(value, '')
      const quoted = key
        .split(value)
        .map((part, i) => (i % 2 ? '(.+?)' : part.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')))
      return {
        says: new RegExp(`^${quoted.join('')}$`, 's'),
        text,
        order: [...key.matchAll(value)].map((m) => Number(m[1])),
        length: literal.length,
      }
    })
    .sort((a, b) => b.length - a.length)
  return patterns
}

/** A text of the service in the language of the console; as it is where that is not known. */
export function told(text: string | undefined, depth = 0): string {
  if (!text || language.value === 'en' || depth > 3) return text ?? ''
  const whole = say(text)
  if (whole !== text) return whole
  for (const p of all()) {
    const values = p.says.exec(text)?.slice(1)
    if (!values) continue
    const inner = values.map((v) => told(v, depth + 1))
    if (inner.some((v, i) => v === values[i] && foreign(v))) continue
    return p.text.replace(value, (_, n: string) => inner[p.order.indexOf(Number(n))] ?? '')
  }
  for (const between of ['; ', ', ']) {
    const parts = text.split(between).map((part) => (part === text ? part : told(part, depth + 1)))
    if (!parts.some(foreign)) return parts.join(between)
  }
  return text
}
