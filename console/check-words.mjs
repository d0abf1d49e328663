// Every catalogue has every text that the console says, and no other. What stands in templates is
// found as the build finds it; what stands in scripts by the names of what is shown.
import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { compile } from '@vue/compiler-dom'
import { parse } from 'vue/compiler-sfc'
import { speaking } from './words.mjs'

const said = new Map() // texts, and where each was found
let source = ''
const shown =
  /\b(?:text|detail|title|label|why|next|help):\s+'((?:[^'\\]|\\.)*)'|\},\s+'([A-Z][^']*\.)',?\s*\)/g

function look(folder) {
  for (const e of readdirSync(folder, { withFileTypes: true })) {
    const path = join(folder, e.name)
    if (e.isDirectory()) look(path)
    else if (/\.(vue|ts)$/.test(e.name) && e.name !== 'schema.d.ts') read(path)
  }
}
function read(path) {
  const text = readFileSync(path, 'utf8')
  source += text
  const note = (t) => /\p{L}{2}/u.test(t) && said.set(t, path)
  if (path.endsWith('.vue')) {
    const { template } = parse(text).descriptor
    if (template)
      compile(template.content, {
        mode: 'module',
        prefixIdentifiers: true,
        expressionPlugins: ['typescript'],
        nodeTransforms: [speaking(note)],
      })
  }
  for (const [, one, other] of text.matchAll(shown)) note((one ?? other).replaceAll("\\'", "'"))
}
look('src')
source += readFileSync('src/api/fields.json', 'utf8') // the help of fields

// Names of protocols and systems are the same everywhere.
const same =
  /^(IKEv2|L2TP\/IPsec|PPTP|SSTP|TLS|STARTTLS|P-\d+|Windows|Android|ChromeOS|OpenWrt|iOS|iPadOS|macOS|\{0\})$/
// Made of a kind of record: singulars of lists, and what expires.
const made = /^\{0\} (\w+|(link|override)s? expires?)$/
let wrong = 0
for (const file of readdirSync('src/words')) {
  const words = JSON.parse(readFileSync(`src/words/${file}`, 'utf8'))
  for (const [text, path] of said) {
    if (!(text in words) && !same.test(text)) {
      console.error(`${file}: missing, from ${path}: ${text}`)
      wrong++
    }
  }
  for (const [text, other] of Object.entries(words)) {
    const values = (t) => [...t.matchAll(/\{\d\}/g)].map(String).sort().join()
    if (values(text) !== values(other)) {
      console.error(`${file}: other values than in English: ${text}`)
      wrong++
    }
    const plain = text.replace(/^\{0\} /, '').replaceAll("'", "\\'")
    if (!said.has(text) && !source.includes(plain) && !source.includes(text) && !made.test(text)) {
      console.error(`${file}: said nowhere: ${text}`)
      wrong++
    }
  }
}
process.exitCode = wrong ? 1 : 0
