// The roles of operators, as a choice.
export const roles = [
  { value: 'auditor', text: 'auditor' },
  { value: 'issuer', text: 'issuer' },
  { value: 'owner', text: 'owner' },
]
