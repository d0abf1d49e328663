// Has the console speak other languages: what stands in templates in English is looked up in a
// catalogue when it is shown. A run of text with values in it is one sentence, with {0}, {1} … in
// the places of the values.

const ROOT = 0
const TEXT = 2
const INTERPOLATION = 5
const ELEMENT = 1
const ATTRIBUTE = 6
const DIRECTIVE = 7
const SIMPLE_EXPRESSION = 4

/** Attributes that people read or hear. */
const spoken = new Set([
  'aria-label',
  'back-text',
  'button',
  'help',
  'label',
  'none',
  'placeholder',
  'searching',
  'title',
])
const wordy = (text) => /\p{L}{2}/u.test(text)
const literal = /'((?:[^'\\]|\\.)*)'/g
const literals = (code) =>
  code.includes(" as '")
    ? []
    : [...code.replace(/'\s*\+\s*'/g, '').matchAll(literal)]
        .map((m) => m[1].replaceAll("\\'", "'"))
        .filter((text) => !text.startsWith('/'))
const squeeze = (text) => text.replace(/\s+/g, ' ')

function expression(content, loc) {
  return { type: SIMPLE_EXPRESSION, content, isStatic: false, constType: 0, loc }
}

/** The transform, for the whole tree before others run; `found` is told every English text. */
export function speaking(found = () => {}) {
  return (node) => {
    if (node.type === ROOT) walk(node, found)
  }
}

function walk(node, found) {
  if (node.type === ELEMENT) {
    if (['pre', 'code', 'script', 'style'].includes(node.tag)) return
    node.props = node.props.map((p) => attribute(p, found))
  }
  node.children = runs(node.children ?? [], found)
  for (const child of node.children) if (child.type === ELEMENT) walk(child, found)
}

function attribute(p, found) {
  if (p.type === ATTRIBUTE && spoken.has(p.name) && p.value && wordy(p.value.content)) {
    const text = squeeze(p.value.content)
    found(text)
    return {
      type: DIRECTIVE,
      name: 'bind',
      rawName: `:${p.name}`,
      arg: { type: SIMPLE_EXPRESSION, content: p.name, isStatic: true, constType: 3, loc: p.loc },
      exp: expression(`$say(${JSON.stringify(text)})`, p.loc),
      modifiers: [],
      loc: p.loc,
    }
  }
  if (p.type !== DIRECTIVE || p.name !== 'bind' || !p.exp) return p
  if (p.arg?.content === 'options') {
    p.exp = expression(`$each(${p.exp.content})`, p.loc)
    return p
  }
  if (!spoken.has(p.arg?.content)) return p
  const code = p.exp.content.trim()
  if (/^`[^`]*`$/.test(code)) {
    const { text, values } = template(code)
    if (!wordy(text)) return p
    found(text)
    p.exp = expression(`$say(${[JSON.stringify(text), ...values].join(', ')})`, p.loc)
  } else if (literals(code).some(wordy)) {
    literals(code).filter(wordy).forEach(found)
    p.exp = expression(`$say(${code})`, p.loc)
  }
  return p
}

/** A template string as a sentence and its values. */
function template(code) {
  const values = []
  const text = code.slice(1, -1).replace(/\$\{((?:[^{}]|\{[^{}]*\})*)\}/g, (_, value) => {
    values.push(`(${value})`)
    return `{${values.length - 1}}`
  })
  return { text: squeeze(text), values }
}

/** Joins what stands side by side to sentences. */
function runs(children, found) {
  const out = []
  let run = []
  const close = () => {
    if (run.length) out.push(...sentence(run, found))
    run = []
  }
  for (const child of children) {
    if (child.type === TEXT || child.type === INTERPOLATION) run.push(child)
    else {
      close()
      out.push(child)
    }
  }
  close()
  return out
}

function sentence(run, found) {
  const texts = run.filter((n) => n.type === TEXT)
  if (!texts.some((n) => wordy(n.content))) {
    // Values alone: one that chooses between texts is looked up.
    for (const n of run) {
      if (n.type !== INTERPOLATION) continue
      const code = n.content.content
      if (code.includes('$say(')) continue
      const own = literals(code).filter(wordy)
      if (own.length) {
        own.forEach(found)
        n.content = expression(`$say(${code})`, n.loc)
      }
    }
    return run
  }
  const values = []
  let text = ''
  for (const n of run) {
    if (n.type === TEXT) text += n.content
    else {
      const code = n.content.content
      const own = literals(code).filter(wordy)
      own.forEach(found)
      values.push(own.length && !code.includes('$say(') ? `$say(${code})` : `(${code})`)
      text += `{${values.length - 1}}`
    }
  }
  text = squeeze(text)
  const key = text.trim()
  found(key)
  const start = text.startsWith(' ') ? '" " + ' : ''
  const end = text.endsWith(' ') ? ' + " "' : ''
  const loc = run[0].loc
  return [
    {
      type: INTERPOLATION,
      content: expression(
        `${start}$say(${[JSON.stringify(key), ...values].join(', ')})${end}`,
        loc,
      ),
      loc,
    },
  ]
}
