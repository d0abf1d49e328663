// Words and looks of switchovers.
import type { Schemas } from '../api/client'

export const kinds = [
  { value: 'psk', text: 'New pre-shared key', of: 'gateway' },
  { value: 'control-key', text: 'New control-channel key', of: 'gateway' },
  { value: 'authority', text: 'New CA of the gateway', of: 'gateway' },
  { value: 'certificate', text: 'New gateway certificate', of: 'gateway' },
  { value: 'address', text: 'New address', of: 'gateway' },
  { value: 'port', text: 'New ports', of: 'gateway' },
  { value: 'proposals', text: 'New proposals', of: 'gateway' },
  { value: 'offers', text: 'Other protocols', of: 'gateway' },
  { value: 'retirement', text: 'Gateway retired', of: 'gateway' },
  { value: 'passwords', text: 'New passwords', of: 'gateway' },
  { value: 'ca-rollover', text: 'CA rollover', of: 'authority' },
  { value: 'release', text: 'Release upgrade', of: 'device' },
]
export const kindText = (kind: string) => kinds.find((k) => k.value === kind)?.text ?? kind
export const kindOf = (kind: string) => kinds.find((k) => k.value === kind)?.of ?? 'gateway'

export const stateTags: Record<string, string> = {
  draft: 'plain',
  running: 'note',
  paused: 'warning',
  closed: 'fine',
  undone: 'plain',
}

/** The states of a device, in their order. */
export const stepStates = [
  { state: 'cannot', text: 'Cannot follow', colour: '#a61e4d' },
  { state: 'waiting', text: 'Waiting', colour: '#adb5bd' },
  { state: 'released', text: 'Released', colour: '#868e96' },
  { state: 'built', text: 'Built', colour: '#7c5c00' },
  { state: 'handed-over', text: 'Handed over', colour: '#1864ab' },
  { state: 'taken', text: 'Taken', colour: '#5f3dc4' },
  { state: 'connected', text: 'Connected', colour: '#2b8a3e' },
  { state: 'nothing', text: 'Nothing to do', colour: '#0b7285' },
]
/** The lines of the plot of their progress. */
export const stepLines = [
  { key: 'released', text: 'Released', colour: '#868e96' },
  { key: 'handed_over', text: 'Handed over', colour: '#1864ab' },
  { key: 'taken', text: 'Taken', colour: '#5f3dc4' },
  { key: 'connected', text: 'Connected', colour: '#2b8a3e' },
]
export const stepText = (state: string) => stepStates.find((s) => s.state === state)?.text ?? state

export const needTexts: Record<string, string> = {
  nothing: 'nothing',
  tap: 'install a file',
  run: 'run a script',
  retype: 'retype values',
  cannot: 'cannot follow',
}

export type Board = Schemas['SwitchoverBoard']

/** How many devices hold the old value alone, as far as is known. */
export const holders = (b: Board) =>
  b.counts
    .filter((c) => !['connected', 'taken', 'nothing'].includes(c.state))
    .reduce((n, c) => n + c.count, 0)
