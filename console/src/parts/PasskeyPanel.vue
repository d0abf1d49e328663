<script setup lang="ts">
// The passkeys of whoever is signed in.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import { addPasskey, capable } from '../api/passkeys'
import { useSession } from '../api/session'
import Field from './Field.vue'
import RecordForm from './RecordForm.vue'
import { moment } from './times'
import { useForm } from './useForm'

const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const list = ref<Schemas['Passkey'][]>([])
const form = useForm({ name: '' }, 'passkey')

async function look() {
  list.value = (await ask(api.GET('/api/v1/passkeys'))).items
}
onMounted(() => form.run(look, ''))
async function after() {
  await look()
  await session.find()
  emit('changed')
}
async function add() {
  await form.run(async () => {
    await addPasskey(form.draft.name)
    form.fill({ name: '' })
    await after()
  }, 'Added. Your other sessions were ended.')
}
async function remove(id: string) {
  await form.run(async () => {
    await ask(api.DELETE('/api/v1/passkeys/{id}', { params: { path: { id } } }))
    await after()
  }, 'Removed.')
}
</script>

<template>
  <section class="panel mb-4" aria-labelledby="passkeys">
    <h2 id="passkeys">Passkeys</h2>
    <p class="soft">
      Sign in with your fingerprint, face or PIN on this device, or with a security key. With a
      passkey, your password alone is no longer enough; the command line then needs a code or a
      token.
    </p>
    <table v-if="list.length" class="grid-table stack mb-3">
      <thead>
        <tr>
          <th scope="col">Name</th>
          <th scope="col">Created</th>
          <th scope="col">Used</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in list" :key="p.id">
          <td>{{ p.name }} <span v-if="p.synced" class="tag plain">synchronised</span></td>
          <td data-label="Created">{{ moment(p.created) }}</td>
          <td data-label="Used">{{ p.used ? moment(p.used) : 'never' }}</td>
          <td>
            <BButton
              size="sm"
              variant="outline-danger"
              :disabled="form.busy.value"
              :aria-label="`Remove the passkey ${p.name}`"
              @click="remove(p.id)"
              >Remove</BButton
            >
          </td>
        </tr>
      </tbody>
    </table>
    <RecordForm v-if="capable()" :form="form" button="Create a passkey" quiet @save="add">
      <Field
        v-model="form.draft.name"
        label="Name of the device or key"
        pointer="/name"
        placeholder="Office laptop"
        required
      />
    </RecordForm>
    <p v-else class="mb-0">This browser cannot use passkeys: update it, or use another one.</p>
  </section>
</template>
