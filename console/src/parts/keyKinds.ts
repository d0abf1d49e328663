// The kinds of keys that are made here, as a choice.
export const keyKinds = [
  { value: 'p256', text: 'P-256' },
  { value: 'p384', text: 'P-384' },
  { value: 'rsa3072', text: 'RSA, 3072 bits' },
]
