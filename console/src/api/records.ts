// The four calls that every collection of records has, with the types of its schema.
import { api, ask, type ListQuery, type Merge, type Page, patch } from './client'

type Call = (url: string, init: object) => ReturnType<typeof api.GET>
const { GET, POST, PATCH, DELETE } = api as Record<'GET' | 'POST' | 'PATCH' | 'DELETE', Call>

export interface Records<Row, Input> {
  path: string
  noun: string
  list: (query: ListQuery) => Promise<Page<Row>>
  show: (id: string) => Promise<Row>
  add: (body: Merge<Input>) => Promise<Row>
  change: (id: string, version: number, body: Merge<Input>) => Promise<Row>
  remove: (id: string) => Promise<unknown>
}

/** The calls of a noun; every one is declared with its pages in nouns/. */
export function records<Row, Input>(path: string, noun: string): Records<Row, Input> {
  const all = `/api/v1${path}`
  const one = `${all}/{id}`
  return {
    path,
    noun,
    list: (query) => ask<Page<Row>>(GET(all, { params: { query } }) as never),
    show: (id) => ask<Row>(GET(one, { params: { path: { id } } }) as never),
    add: (body) => ask<Row>(POST(all, { body: body as object }) as never),
    change: (id, version, body) =>
      ask<Row>(PATCH(one, { ...patch(id, version), body: body as object }) as never),
    remove: (id) => ask(DELETE(one, { params: { path: { id } } }) as never),
  }
}

/** Every record as a choice by its name, whatever their number. */
export async function choices<Row extends { id: string; name: string }>(
  of: Pick<Records<Row, never>, 'list'>,
): Promise<{ value: string; text: string }[]> {
  const list: { value: string; text: string }[] = []
  for (;;) {
    const page = await of.list({ limit: 500, offset: list.length })
    list.push(...page.items.map(({ id, name }) => ({ value: id, text: name })))
    if (list.length >= page.total || page.items.length === 0) return list
  }
}
