// Passkeys, by the browser: it asks its device or a security key to sign what the service asks.
import { say } from '../words'
import { api, ask } from './client'

/** This browser can use passkeys as the service speaks of them. */
export const capable = () =>
  typeof PublicKeyCredential !== 'undefined' && 'parseRequestOptionsFromJSON' in PublicKeyCredential

async function answer(question: Promise<Credential | null>) {
  try {
    const made = (await question) as PublicKeyCredential | null
    if (made) return made.toJSON()
  } catch (e) {
    if (!(e instanceof DOMException)) throw e
    if (e.name === 'InvalidStateError') throw new Error(say('This device has one already.'))
  }
  throw new Error(
    say('The browser used no passkey: it was cancelled, it took too long, or there is none.'),
  )
}

/** What a passkey says to sign in or to confirm. */
export async function passkeyAnswer() {
  const { options } = await ask(api.POST('/api/v1/session/passkey'))
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(
    options as PublicKeyCredentialRequestOptionsJSON,
  )
  return answer(navigator.credentials.get({ publicKey }))
}

/** Has the browser create a passkey, and the service keep it. */
export async function addPasskey(name: string) {
  const { options } = await ask(api.POST('/api/v1/passkeys/offer'))
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
    options as PublicKeyCredentialCreationOptionsJSON,
  )
  const credential = await answer(navigator.credentials.create({ publicKey }))
  return ask(api.POST('/api/v1/passkeys', { body: { name, credential } }))
}
