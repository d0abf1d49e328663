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
  { value: 'offers', text: 'Protocol change', of: 'gateway' },
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
export const stepLines = stepStates
  .filter((s) => ['released', 'handed-over', 'taken', 'connected'].includes(s.state))
  .map(({ state, text, colour }) => ({ key: state.replace('-', '_'), text, colour }))
export const stepText = (state: string) => stepStates.find((s) => s.state === state)?.text ?? state

export const needTexts: Record<string, string> = {
  nothing: 'nothing',
  tap: 'install a file',
  run: 'run a script',
  retype: 'retype values',
  cannot: 'cannot follow',
}

export type Board = Schemas['SwitchoverBoard']

/** What a form asks of the new value, by kind. */
export const valueFields: Record<
  string,
  {
    key:
      | 'psk'
      | 'control_key'
      | 'authority'
      | 'certificate'
      | 'address'
      | 'addresses'
      | 'remotes'
      | 'sstp_port'
      | 'ike'
      | 'esp'
      | 'ciphers'
      | 'release'
    label: string
    kind?: 'secret' | 'pem' | 'list' | 'number'
    help?: string
    required?: boolean
  }[]
> = {
  psk: [{ key: 'psk', label: 'New pre-shared key', kind: 'secret' }],
  'control-key': [{ key: 'control_key', label: 'New control-channel key', kind: 'secret' }],
  authority: [{ key: 'authority', label: 'New CAs', kind: 'pem', required: true }],
  certificate: [{ key: 'certificate', label: 'New certificate', kind: 'pem', required: true }],
  address: [
    { key: 'address', label: 'New address', required: true },
    { key: 'addresses', label: 'IP addresses', kind: 'list' },
  ],
  port: [
    {
      key: 'remotes',
      label: 'New remotes',
      kind: 'list',
      help: 'Such as udp:1194 or tcp:443. One per line.',
    },
    { key: 'sstp_port', label: 'New port of SSTP', kind: 'number' },
  ],
  proposals: [
    { key: 'ike', label: 'IKE proposals', kind: 'list' },
    { key: 'esp', label: 'ESP proposals', kind: 'list' },
    { key: 'ciphers', label: 'Data ciphers', kind: 'list' },
  ],
  release: [{ key: 'release', label: 'New release', required: true }],
}
