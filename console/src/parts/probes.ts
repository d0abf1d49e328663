// Words and colours for what gateways answered.
import type { Schemas } from '../api/client'

export type Answer = Schemas['Answer']

/** What a probe comes to, in words. */
export const stateText: Record<string, string> = {
  sound: 'as on record',
  differs: 'differs',
  silent: 'does not answer',
}
export const stateTag: Record<string, string> = { sound: 'fine', differs: 'warning', silent: 'error' }

/** How one question was answered. */
export const answerTag: Record<string, string> = {
  answers: 'fine',
  silent: 'error',
  closed: 'error',
  faulty: 'warning',
  unprobed: 'plain',
}

/** Silence is right where nobody should answer. */
export function rightlySilent(a: { method: string; state: string }) {
  return ['L2TP without IPsec', 'IKEv1 aggressive mode'].includes(a.method) && a.state !== 'answers'
}

/** What an answer shows, a line each. */
export function shows(a: Answer): string[] {
  const lines: string[] = []
  const list = (word: string, names?: string[] | null) => names?.length && lines.push(`${word} ${names.join(', ')}`)
  if (a.ike) {
    list('takes', a.ike.taken)
    list('refuses', a.ike.refused)
    list('not asked for', a.ike.unprobed)
    list('asks for', a.ike.wanted)
    if (a.ike.cookie) lines.push('wants a cookie first')
    if (a.ike.gateway_behind_nat) lines.push('behind address translation')
    if (a.ike.identity) lines.push(`introduces itself as ${a.ike.identity}`)
  }
  if (a.tls) {
    lines.push(`TLS ${a.tls.version}, ${a.tls.cipher}`)
    lines.push(`certificate of ${a.tls.subject} by ${a.tls.issuer}`)
    lines.push(`until ${new Date(a.tls.ends ?? '').toLocaleDateString()}`)
  }
  if (a.peer?.host) lines.push(`host ${a.peer.host} ${a.peer.vendor ?? ''}`)
  if (a.fault && !rightlySilent(a)) lines.push(a.fault)
  return [...lines, ...(a.notes ?? [])]
}
