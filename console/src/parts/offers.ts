// What a gateway's offers are made of: one table for all protocols, and the way between
// the form and the record.

import descriptions from '../api/fields.json'

export type OfferKey = 'ikev2' | 'tls' | 'sstp' | 'l2tp' | 'pptp'

export interface OfferField {
  key: string
  label: string
  kind: 'text' | 'list' | 'choice' | 'check' | 'secret' | 'number' | 'pem' | 'several' | 'remotes'
  help?: string
  described?: boolean // its help is the description of the record's field
  choices?: string[]
  makes?: number
  stored?: string // the field that says whether a secret is stored
}

export interface Offer {
  key: OfferKey
  text: string
  fields: OfferField[]
}

const ppp: OfferField = {
  key: 'ppp',
  label: 'PPP authentication methods',
  kind: 'several',
  choices: ['mschapv2', 'eap', 'mschap', 'chap', 'pap'],
}
const authority: OfferField = {
  key: 'authority',
  label: "CA of the gateway's certificate",
  kind: 'pem',
  described: true,
}

// Fields with a form or words of their own; the other parameters follow by their descriptions.
const written: Offer[] = [
  {
    key: 'ikev2',
    text: 'IKEv2',
    fields: [
      {
        key: 'auth',
        label: 'Client authentication',
        kind: 'several',
        choices: ['eap-tls', 'certificate', 'eap-mschapv2', 'psk'],
      },
      { key: 'psk', label: 'Pre-shared key', kind: 'secret', makes: 100, stored: 'psk_set' },
      authority,
      {
        key: 'ike',
        label: 'IKE proposals',
        kind: 'list',
        described: true,
      },
      {
        key: 'esp',
        label: 'Child proposals',
        kind: 'list',
        described: true,
      },
    ],
  },
  {
    key: 'tls',
    text: 'TLS tunnel',
    fields: [
      {
        key: 'remotes',
        label: 'Remotes',
        kind: 'remotes',
        help: 'One per line, in order of preference: udp:1194, or tcp:other.example:443',
      },
      {
        key: 'auth',
        label: 'Client authentication',
        kind: 'several',
        choices: ['certificate-password', 'certificate', 'password'],
      },
      authority,
      {
        key: 'control_kind',
        label: 'Control-channel key',
        kind: 'choice',
        choices: ['', 'crypt-v2', 'crypt', 'auth'],
      },
      {
        key: 'control_direction',
        label: 'Direction on clients',
        kind: 'choice',
        choices: ['', '0', '1'],
      },
      { key: 'control_key', label: 'The key file', kind: 'pem', stored: 'control_key_set' },
      {
        key: 'ciphers',
        label: 'Data ciphers',
        kind: 'list',
        described: true,
      },
      { key: 'min_tls', label: 'Minimum TLS version', kind: 'choice', choices: ['', '1.2', '1.3'] },
    ],
  },
  {
    key: 'sstp',
    text: 'SSTP',
    fields: [ppp, authority],
  },
  {
    key: 'l2tp',
    text: 'L2TP/IPsec',
    fields: [
      {
        key: 'auth',
        label: 'Machine authentication',
        kind: 'several',
        choices: ['psk', 'certificate'],
      },
      { key: 'psk', label: 'Pre-shared key', kind: 'secret', makes: 100, stored: 'psk_set' },
      ppp,
      {
        key: 'ike',
        label: 'IKE proposals',
        kind: 'list',
        described: true,
      },
      {
        key: 'esp',
        label: 'ESP proposals',
        kind: 'list',
        described: true,
      },
      authority,
    ],
  },
  {
    key: 'pptp',
    text: 'PPTP',
    fields: [
      ppp,
      {
        key: 'mppe',
        label: 'MPPE strengths in bits',
        kind: 'several',
        choices: ['128', '56', '40'],
      },
    ],
  },
]

type Parameter = Required<Pick<OfferField, 'key' | 'label' | 'help'>> & { kind: string }
const parameters = descriptions.parameters as Record<OfferKey, Parameter[]>

export const offers = written.map((offer): Offer => {
  const there = new Set(offer.fields.map((f) => f.key))
  const rest = parameters[offer.key].filter((p) => !there.has(p.key)) as OfferField[]
  return { ...offer, fields: [...offer.fields, ...rest] }
})

export type Draft = Record<string, unknown>

/** What a new offer begins with. */
export function emptyOffer(key: OfferKey): Draft {
  const draft: Draft = {}
  for (const f of offers.find((o) => o.key === key)!.fields) {
    draft[f.key] =
      { list: [], several: [], remotes: [], check: false, number: 0 }[f.kind as 'list'] ?? ''
  }
  const start: Record<OfferKey, Draft> = {
    ikev2: {
      auth: ['eap-mschapv2'],
      ike: ['aes256-sha256-ecp256', 'aes256-sha256-modp2048'],
      esp: ['aes256gcm16-ecp256', 'aes256-sha256-modp2048'],
    },
    tls: {
      remotes: ['udp:1194'],
      auth: ['certificate'],
      ciphers: ['AES-256-GCM'],
      digest: 'SHA256',
      min_tls: '1.2',
    },
    sstp: { ppp: ['mschapv2'] },
    l2tp: {
      auth: ['psk'],
      ppp: ['mschapv2'],
      ike: ['aes256-sha256-modp2048'],
      esp: ['aes256-sha256'],
    },
    pptp: { ppp: ['mschapv2'], mppe: ['128'] },
  }
  return { ...draft, ...start[key] }
}

interface Remote {
  address?: string
  port: number
  transport: string
}

/** Turns an offer of a record into what the form shows. */
export function shown(key: OfferKey, offer: Draft): Draft {
  const draft = { ...emptyOffer(key), ...offer, psk: '' }
  if (key === 'tls') {
    const control = (offer.control_key ?? {}) as Draft
    Object.assign(draft, {
      remotes: ((offer.remotes ?? []) as Remote[]).map((r) =>
        [r.transport, r.address, r.port].filter(Boolean).join(':'),
      ),
      control_kind: control.kind ?? '',
      control_direction: control.direction ?? '',
      control_key: '',
      control_key_set: control.key_set ?? false,
    })
  }
  return draft
}

/** Turns what the form shows into a merge patch: secrets only where some were typed. */
export function sent(key: OfferKey, draft: Draft): Draft {
  const out: Draft = {}
  for (const f of offers.find((o) => o.key === key)!.fields) {
    if (f.kind === 'secret' && !draft[f.key]) continue
    out[f.key] = f.kind === 'number' ? Number(draft[f.key] ?? 0) : draft[f.key]
  }
  if (key === 'tls') {
    out.remotes = (draft.remotes as string[]).map((line) => {
      // udp:1194 or tcp:other.example:443; an IPv6 address stands in brackets
      const [, transport, address = '', port] =
        /^([^:]*):(?:(.*):)?(\d*)$/.exec(line.trim()) ?? ([, line.trim()] as string[])
      return { transport, port: Number(port ?? 0), address: address.replace(/^\[|\]$/g, '') }
    })
    const { control_kind, control_direction, control_key } = draft
    delete out.control_kind
    delete out.control_direction
    out.control_key = control_kind
      ? {
          kind: control_kind,
          direction: control_direction,
          ...(control_key ? { key: control_key } : {}),
        }
      : null
  }
  return out
}

/** Where an error of the service stands in the form. */
export function pointer(key: OfferKey, field: string): string {
  const at: Record<string, string> = {
    control_kind: 'control_key/kind',
    control_direction: 'control_key/direction',
    control_key: 'control_key/key',
  }
  return `/offers/${key}/${key === 'tls' ? (at[field] ?? field) : field}`
}
