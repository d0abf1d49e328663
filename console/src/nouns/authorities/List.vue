<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../../api/client'
import Field from '../../parts/Field.vue'
import MaterialForm from '../../parts/MaterialForm.vue'
import Notice from '../../parts/Notice.vue'
import PageHead from '../../parts/PageHead.vue'
import RequestList from '../../parts/RequestList.vue'
import SignerPanel from '../../parts/SignerPanel.vue'
import type { Material } from '../../parts/files'
import { keyKinds } from '../../parts/keyKinds'
import { useForm } from '../../parts/useForm'
import { say } from '../../words'
import { day } from '../../parts/times'

const authorities = ref<Schemas['AuthorityRow'][]>()
const doing = ref<'' | 'make' | 'bring'>('')
const { draft, wrong, done, busy, run } = useForm({
  ...{ name: '', kind: 'p256' as NonNullable<Schemas['NewAuthority']['kind']> },
  ...{ issuing: true, years: 10, token: '' },
  ...{ permitted: [] as string[], excluded: [] as string[], lists: [] as string[] },
})
const tokens = ref<Schemas['KeyToken'][]>([])
async function look() {
  tokens.value = (await ask(api.GET('/api/v1/key-tokens'))).items
  authorities.value = (
    await ask(api.GET('/api/v1/authorities', { params: { query: { limit: 200 } } }))
  ).items
}
onMounted(() => run(look, ''))
async function make() {
  await run(async () => {
    await ask(api.POST('/api/v1/generated-authorities', { body: draft }))
    doing.value = ''
    await look()
  }, 'Made.')
}
async function bring(m: Material, name: string) {
  await ask(api.POST('/api/v1/imported-authorities', { body: { ...m, authority: name } }))
  await look()
}
function key(a: Schemas['AuthorityRow']) {
  if (a.successor) return `retired, ${a.successor} takes its place`
  return a.retired ? 'retired' : a.key_uri ? 'in a token' : a.key_set ? 'sealed here' : 'elsewhere'
}
</script>

<template>
  <PageHead title="Authorities" back="/certificates" back-text="Certificates">
    <BButton
      v-if="doing !== 'make'"
      class="alters"
      variant="primary"
      size="sm"
      @click="doing = 'make'"
      >Create an authority</BButton
    >
    <BButton
      v-if="doing !== 'bring'"
      class="alters"
      variant="outline-secondary"
      size="sm"
      @click="doing = 'bring'"
      >Import</BButton
    >
  </PageHead>
  <p class="soft">
    Certificate authorities issue the certificates of gateways and devices. Their keys are sealed
    here, or stay in a token.
  </p>
  <Notice v-for="t in tokens.filter((t) => t.why)" :key="t.name" class="mb-3" :text="t.why!" />
  <form v-if="doing === 'make'" class="panel mb-4" novalidate @submit.prevent="make">
    <div class="columns">
      <Field v-model="draft.name" label="Name" pointer="/name" required />
      <Field
        v-model="draft.kind"
        kind="choice"
        label="Key type"
        pointer="/kind"
        :choices="keyKinds"
      />
      <Field v-model="draft.years" kind="number" label="Validity in years" pointer="/years" />
      <Field
        v-if="tokens.length"
        v-model="draft.token"
        kind="choice"
        label="Private keys"
        pointer="/token"
        :choices="[
          { value: '', text: 'sealed here' },
          ...tokens.map((t) => ({ value: t.name, text: say('in the token {0}', t.name) })),
        ]"
      />
    </div>
    <Field v-model="draft.issuing" kind="check" label="A root, and an issuing CA below it" />
    <details class="mb-3">
      <summary>Name constraints and CRL</summary>
      <div class="columns mt-2">
        <Field
          v-model="draft.permitted"
          kind="list"
          label="Permitted names"
          pointer="/permitted"
          help="Domains and networks, one per line. It cannot issue for anything else."
        />
        <Field v-model="draft.excluded" kind="list" label="Excluded names" pointer="/excluded" />
        <Field
          v-model="draft.lists"
          kind="list"
          label="URLs of its CRL"
          pointer="/lists"
          help="As gateways reach this service or a copy of the CRL."
        />
      </div>
    </details>
    <Notice :text="wrong" />
    <BButton class="alters" type="submit" variant="primary" :disabled="busy">Create</BButton>
    <BButton type="button" variant="link" @click="doing = ''">Cancel</BButton>
  </form>
  <section v-else-if="doing === 'bring'" class="panel mb-4" aria-labelledby="bring">
    <h2 id="bring">Import an authority</h2>
    <p class="soft">
      With its key to issue here, or without it if certificates are signed elsewhere. The file must
      have the chain up to the root.
    </p>
    <MaterialForm button="Import" keyed named="Name, if not the certificate's" :send="bring" />
  </section>
  <div v-else-if="wrong || done" class="mb-4">
    <Notice :text="wrong" /><Notice :text="done" kind="done" />
  </div>
  <section v-if="authorities" class="panel mb-4" aria-labelledby="list">
    <h2 id="list" class="visually-hidden">Authorities on record</h2>
    <p v-if="authorities.length === 0" class="mb-0">
      No authority yet. Create one, or import yours.
    </p>
    <table v-else class="grid-table stack">
      <thead>
        <tr>
          <th scope="col">Name</th>
          <th scope="col">Expires</th>
          <th scope="col">Key</th>
          <th scope="col" class="number">Issued</th>
          <th scope="col" class="number">Revoked</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="a in authorities" :key="a.id">
          <td>
            <RouterLink :to="`/authorities/${a.id}`">{{ a.name }}</RouterLink>
          </td>
          <td data-label="Expires">{{ day(a.expires) }}</td>
          <td data-label="Key">{{ key(a) }}</td>
          <td data-label="Issued" class="number">{{ a.certificates }}</td>
          <td data-label="Revoked" class="number">{{ a.revoked }}</td>
        </tr>
      </tbody>
    </table>
  </section>
  <RequestList v-if="authorities" @answered="look" />
  <SignerPanel v-if="authorities" :authorities="authorities" />
</template>
