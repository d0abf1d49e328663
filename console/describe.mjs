// Takes the descriptions of the records' fields out of the API's document: what the console says of
// a field is what the API says of it.
import { readFileSync, writeFileSync } from 'node:fs'

const { schemas } = JSON.parse(readFileSync('../bin/openapi.json')).components
const resolved = (s) => (s?.$ref ? schemas[s.$ref.split('/').pop()] : s)

function walk(schema, at, into) {
  for (const [name, raw] of Object.entries(resolved(schema)?.properties ?? {})) {
    const s = resolved(raw)
    const pointer = `${at}/${name}`
    const text = raw.description ?? s?.description
    if (text) into[pointer] = text
    if (s?.properties && pointer.split('/').length < 6) walk(s, pointer, into)
  }
  return into
}

const settings = { organisation: 'Organisation', mail: 'Mail', directory: 'Directory' }
const nouns = Object.keys(schemas)
  .filter((name) => name.endsWith('Input') && schemas[name.slice(0, -5)])
  .map((name) => [name.slice(0, -5).toLowerCase(), name])
const records = { ...Object.fromEntries(nouns), ...settings }
const fields = Object.fromEntries(
  Object.entries(records).map(([noun, name]) => [noun, walk(schemas[name], '', {})]),
)

// Parameters of a gateway's offers that are a number, a text or a choice of yes and no: what the
// form shows of them. The label is the description up to its first colon or semicolon.
const kinds = { integer: 'number', boolean: 'check', string: 'text' }
const offers = resolved(schemas.GatewayInput.properties.offers).properties
const parameters = {}
for (const [protocol, offer] of Object.entries(offers)) {
  parameters[protocol] = Object.entries(resolved(offer).properties)
    .filter(([, s]) => kinds[s.type] && !s.readOnly && !s.writeOnly && s.description)
    .map(([key, { type, description }]) => {
      const [, label, rest] = /^(.*?)(?:[:;] (.*)|\.)$/.exec(description)
      const help = rest ? rest[0].toUpperCase() + rest.slice(1) : ''
      return { key, kind: kinds[type], label, help }
    })
}
fields.parameters = parameters
writeFileSync('src/api/fields.json', JSON.stringify(fields, null, 2) + '\n')
