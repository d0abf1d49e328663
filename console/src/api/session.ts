import { defineStore } from 'pinia'
import { forgetListViews } from '../parts/listViews'
import { api, ask, type Schemas, ServiceError } from './client'
import { passkeyAnswer } from './passkeys'

/** Who is signed in, and what the console has to do first. */
export const useSession = defineStore('session', {
  state: () => ({
    operator: null as Schemas['Operator'] | null,
    setUp: false,
    provider: '',
    passkeys: false,
    version: '',
    known: false,
  }),
  getters: {
    may: (s) => (role: 'issuer' | 'owner') =>
      s.operator?.role === 'owner' || s.operator?.role === role,
  },
  actions: {
    async find() {
      const start = await ask(api.GET('/api/v1/start'))
      this.setUp = start.set_up
      this.provider = start.provider
      this.passkeys = start.passkeys
      this.version = start.version
      try {
        this.operator = (await ask(api.GET('/api/v1/session'))).operator
      } catch (e) {
        if (!(e instanceof ServiceError) || e.status !== 401) throw e
        this.operator = null
      }
      this.known = true
    },
    async signInByPasskey() {
      const body = { passkey: await passkeyAnswer(), kind: 'cookie' as const }
      this.operator = (await ask(api.POST('/api/v1/session', { body }))).operator
    },
    async signIn(name: string, password: string, code = '') {
      const body = { name, password, code, kind: 'cookie' as const }
      this.operator = (await ask(api.POST('/api/v1/session', { body }))).operator
    },
    /** Goes to the provider to sign in there; it leads back to a page. */
    async enter(to: string) {
      const body = { to: to || '/' }
      location.assign((await ask(api.POST('/api/v1/session/entry', { body }))).address)
    },
    async signOut() {
      await ask(api.DELETE('/api/v1/session'))
      forgetListViews()
      this.operator = null
      const start = await ask(api.GET('/api/v1/start'))
      this.provider = start.provider
      this.passkeys = start.passkeys
    },
    async makeOwner(code: string, name: string, password: string, links: string) {
      await ask(api.POST('/api/v1/start', { body: { code, name, password, links } }))
      this.setUp = false
    },
  },
})
