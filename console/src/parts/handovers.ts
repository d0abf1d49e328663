// How the states of handovers look, and what can still be done with one.
import type { Schemas } from '../api/client'

export const stateLooks: Record<string, string> = {
  made: 'note',
  sent: 'note',
  opened: 'note',
  fetched: 'fine',
  connected: 'fine',
  locked: 'error',
}
export const isClosed = (h: Schemas['Handover']) =>
  ['recalled', 'locked', 'expired', 'used-up'].includes(h.state) || new Date(h.expires) < new Date()
