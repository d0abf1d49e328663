<script setup lang="ts">
// How operators sign in by a provider of OpenID Connect.
import { onMounted, ref } from 'vue'
import { api, ask, seen, type Schemas } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { FieldError, useForm } from './useForm'
import { say } from '../words'

const empty = {
  issuer: '',
  title: '',
  client_id: '',
  secret: '',
  scopes: [] as string[],
  name_claim: '',
  group_claim: '',
  roles: [] as string[],
  authority: '',
}
const { draft, wrong, done, busy, fill, run } = useForm(empty)
const row = ref<Schemas['SingleSignOn']>()
const back = location.origin + '/sign-in/back'
function show(s: Schemas['SingleSignOn']) {
  row.value = s
  fill({
    issuer: s.issuer,
    title: s.title ?? '',
    client_id: s.client_id ?? '',
    secret: '',
    scopes: s.scopes ?? [],
    name_claim: s.name_claim ?? '',
    group_claim: s.group_claim ?? '',
    roles: (s.roles ?? []).map((r) => `${r.group}=${r.role}`),
    authority: s.authority ?? '',
  })
}
onMounted(() => run(async () => show(await ask(api.GET('/api/v1/single-sign-on'))), ''))
function rolesOf(lines: string[]) {
  return lines.map((line, i) => {
    const at = line.lastIndexOf('=')
    if (at < 1) throw new FieldError(`/roles/${i}`, say('Expected a group, =, and its role.'))
    return { group: line.slice(0, at), role: line.slice(at + 1) as 'owner' | 'issuer' | 'auditor' }
  })
}
async function save() {
  await run(async () => {
    const { secret, roles, ...rest } = draft
    const body = {
      ...rest,
      roles: rolesOf(roles),
      remove_secret: !rest.issuer,
      secret_set: row.value?.secret_set ?? false,
      version: row.value?.version ?? 0,
      ...(secret ? { secret } : {}),
    }
    show(await ask(api.PUT('/api/v1/single-sign-on', { ...seen(row.value?.version ?? 0), body })))
  })
}
</script>

<template>
  <section v-if="row" class="panel mt-4" aria-labelledby="sign-on">
    <h2 id="sign-on">Single sign-on</h2>
    <p class="soft">
      Operators can sign in with an OpenID Connect identity provider and get the role of their
      groups there. Local operators stay, for the case that it is not available. Register
      <span class="mono">{{ back }}</span> there as the redirect URI.
    </p>
    <form novalidate @submit.prevent="save">
      <div class="columns">
        <Field
          v-model="draft.issuer"
          label="Issuer"
          pointer="/issuer"
          help="As its configuration says. Empty turns it off."
        />
        <Field v-model="draft.title" label="Name on the sign-in page" pointer="/title" />
        <Field v-model="draft.client_id" label="Client ID" pointer="/client_id" />
        <Field
          v-model="draft.secret"
          kind="secret"
          label="Client secret"
          pointer="/secret"
          :help="row.secret_set ? 'One is stored. Leave this empty to keep it.' : ''"
        />
        <Field
          v-model="draft.roles"
          kind="list"
          label="Groups and their roles"
          pointer="/roles"
          help="One per line, such as helpdesk=issuer. The first that fits counts."
        />
        <Field
          v-model="draft.scopes"
          kind="list"
          label="Scopes"
          pointer="/scopes"
          help="Beside openid."
        />
        <Field v-model="draft.name_claim" label="Claim with the name" pointer="/name_claim" />
        <Field v-model="draft.group_claim" label="Claim with the groups" pointer="/group_claim" />
      </div>
      <Field
        v-model="draft.authority"
        kind="pem"
        label="CAs of its certificate"
        pointer="/authority"
        help="PEM. Empty trusts the system's CAs."
      />
      <Notice :text="wrong" /><Notice :text="done" kind="done" />
      <BButton type="submit" size="sm" variant="outline-secondary" :disabled="busy">Save</BButton>
    </form>
  </section>
</template>
