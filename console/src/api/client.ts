// The one way to the service: typed calls, and errors as the service words them.
import createClient from 'openapi-fetch'
import type { components, paths } from './schema'
import { told } from '../told'
import { complete, say } from '../words'

export type Schemas = components['schemas']
export type Finding = Schemas['Finding']
export type Severity = Finding['severity']
export type Tally = Schemas['Tally']

export const api = createClient<paths>({ baseUrl: '/' })

/** An error of the service, with the fields at fault by JSON pointer. */
export class ServiceError extends Error {
  readonly status: number
  readonly kind: string // of the problem, such as code-wanted
  readonly fields: Record<string, string>
  readonly findings: Finding[]

  constructor(
    status: number,
    detail: string,
    errors: Schemas['FieldProblem'][] = [],
    findings: Finding[] = [],
    kind = '',
  ) {
    super(told(detail))
    this.status = status
    this.kind = kind
    this.findings = findings
    this.fields = {}
    for (const e of errors) {
      const fix = told(e.fix)
      this.fields[e.pointer] =
        say('Found {0}; expected {1}.', told(e.found), told(e.expected)) +
        (fix && ` ${fix.charAt(0).toUpperCase()}${fix.slice(1)}.`)
    }
  }
}

/** Called when the session has ended. */
let onSignedOut = () => {}
export function whenSignedOut(then: () => void) {
  onSignedOut = then
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** Unwraps an answer, or throws a ServiceError. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new ServiceError(0, 'The service does not answer. Is it running, and are you online?')
  }
  if (answer.response.ok) return answer.data as T
  await complete // what is said of it may be in another language
  const p = (answer.error ?? {}) as Partial<Schemas['Problem']>
  const kind = p.type?.split(':').pop() ?? ''
  if (answer.response.status === 401 && kind !== 'code-wanted') onSignedOut()
  throw new ServiceError(
    answer.response.status,
    p.detail ?? `The service answered ${answer.response.status}.`,
    p.errors ?? [],
    p.findings ?? [],
    kind,
  )
}

/** Query of a list, as every list takes it. */
export interface ListQuery {
  search?: string
  sort?: string
  limit?: number
  offset?: number
  filter?: string[]
}

export interface Page<Row> {
  items: Row[]
  total: number
  more?: boolean
}

/** What is replaced as a whole is replaced in the version that was seen. */
export function seen(version: number) {
  return { params: { header: { 'If-Match': String(version) } } }
}

/** A JSON merge patch (RFC 7396): what is left out stays, a null removes. */
export type Merge<T> = T extends (infer One)[]
  ? One[]
  : T extends object
    ? { [K in keyof T]?: Merge<T[K]> | null }
    : T

/** Changes are sent as JSON merge patches to the version that was seen. */
export function patch(id: string, version: number) {
  return {
    params: { path: { id }, header: { 'If-Match': String(version) } },
    headers: { 'Content-Type': 'application/merge-patch+json' },
  }
}
