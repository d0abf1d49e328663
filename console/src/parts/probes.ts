// Words and colours for what gateways answered.
import type { Schemas } from '../api/client'
import { day } from './times'

export type Answer = Schemas['Answer']

/** What a probe comes to, in words. */
export const stateText: Record<string, string> = {
  matches: 'matches record',
  differs: 'differs from record',
  'no-response': 'no response',
}
export const stateTag: Record<string, string> = {
  matches: 'fine',
  differs: 'warning',
  'no-response': 'error',
}

/** How one question was answered. */
export const answerTag: Record<string, string> = {
  answers: 'fine',
  'no-response': 'error',
  closed: 'error',
  faulty: 'warning',
  unprobed: 'plain',
}

/** What an answer is called. */
export const answerText: Record<string, string> = {
  answers: 'responds',
  'no-response': 'no response',
}

/** A gateway is expected to refuse these. */
export function closedAsExpected(a: { method: string; state: string }) {
  return ['L2TP without IPsec', 'IKEv1 aggressive mode'].includes(a.method) && a.state !== 'answers'
}

/** What an answer shows, a line each. */
export function shows(a: Answer): string[] {
  const lines: string[] = []
  const list = (word: string, names?: string[] | null) =>
    names?.length && lines.push(`${word} ${names.join(', ')}`)
  if (a.ike) {
    list('accepts', a.ike.taken)
    list('rejects', a.ike.refused)
    list('not probed', a.ike.unprobed)
    list('requests', a.ike.wanted)
    if (a.ike.cookie) lines.push('requires a cookie')
    if (a.ike.gateway_behind_nat) lines.push('behind NAT')
    if (a.ike.identity) lines.push(`identifies as ${a.ike.identity}`)
  }
  if (a.tls) {
    lines.push(`TLS ${a.tls.version}, ${a.tls.cipher}`)
    lines.push(`certificate of ${a.tls.subject} by ${a.tls.issuer}`)
    lines.push(`until ${day(a.tls.expires ?? '')}`)
  }
  if (a.peer?.host) lines.push(`host ${a.peer.host} ${a.peer.vendor ?? ''}`)
  if (a.fault && !closedAsExpected(a)) lines.push(a.fault)
  return [...lines, ...(a.notes ?? [])]
}
