<script setup lang="ts">
// Packs an authority with its key, for owners, under a passphrase that is said twice.
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { save } from './files'
import { useForm } from './useForm'

const props = defineProps<{ authority: Schemas['AuthorityRow'] }>()
const { draft, wrong, done, busy, run } = useForm({ passphrase: '', again: '' })
async function go() {
  await run(async () => {
    const body = { ...draft }
    const params = { path: { id: props.authority.id } }
    const f = await ask(api.POST('/api/v1/authorities/{id}/exports', { params, body }))
    save(f.name + '.p12', f.content)
    draft.passphrase = draft.again = ''
  }, 'Saved. Keep the file and its passphrase apart.')
}
</script>

<template>
  <details class="panel mb-4">
    <summary>Export its key</summary>
    <p class="soft mt-2">
      For owners only, and recorded in the audit log. Whoever has the file and its passphrase can
      issue any certificate.
    </p>
    <form novalidate @submit.prevent="go">
      <div class="columns">
        <Field
          v-model="draft.passphrase"
          kind="secret"
          label="Passphrase"
          pointer="/passphrase"
          help="At least 15 characters; five or six unrelated words work well."
        />
        <Field v-model="draft.again" kind="secret" label="Repeat" pointer="/again" />
      </div>
      <Notice :text="wrong" /><Notice :text="done" kind="done" />
      <BButton class="alters" type="submit" size="sm" variant="outline-danger" :disabled="busy"
        >Save as PKCS #12</BButton
      >
    </form>
  </details>
</template>
