<script setup lang="ts">
// Signing requests that wait for what an authority elsewhere signs.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import MaterialForm from './MaterialForm.vue'
import Notice from './Notice.vue'
import { save, type Material } from './files'
import { keyKinds } from './keyKinds'
import { useForm } from './useForm'

const emit = defineEmits<{ answered: [] }>()
const requests = ref<Schemas['Request'][]>([])
const total = ref(0)
const { draft, wrong, done, busy, run } = useForm({ name: '', kind: 'p256' })

async function look() {
  const page = await ask(api.GET('/api/v1/requests', { params: { query: { limit: 50 } } }))
  requests.value = page.items
  total.value = page.total
}
onMounted(() => run(look, ''))
async function ownRequest() {
  await run(async () => {
    const r = await ask(api.POST('/api/v1/requests', { body: draft }))
    save(r.subject + '.csr', r.pem, true)
    draft.name = ''
    await look()
  }, 'The request is downloaded; have it signed.')
}
async function answer(m: Material) {
  await ask(api.POST('/api/v1/request-answers', { body: m }))
  await look()
  emit('answered')
}
async function forget(id: string) {
  await run(async () => {
    await ask(api.DELETE('/api/v1/requests/{id}', { params: { path: { id } } }))
    await look()
  }, 'Dropped.')
}
</script>

<template>
  <section class="panel mb-4" aria-labelledby="requests">
    <h2 id="requests">Pending signing requests</h2>
    <p v-if="requests.length === 0" class="soft">
      None. For an authority whose key is kept elsewhere, create requests on the devices' pages.
    </p>
    <template v-else>
      <table class="grid-table stack mb-3">
        <thead>
          <tr>
            <th scope="col">For</th>
            <th scope="col">Names</th>
            <th scope="col">Authority</th>
            <th scope="col"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in requests" :key="r.id">
            <td>
              <RouterLink v-if="r.device_id" :to="`/devices/${r.device_id}`">{{
                r.subject
              }}</RouterLink>
              <template v-else>{{ r.subject }}</template>
            </td>
            <td data-label="Names" class="mono small">{{ r.names.join(', ') }}</td>
            <td data-label="Authority">{{ r.authority || 'any, for a new authority' }}</td>
            <td class="text-nowrap">
              <BButton
                size="sm"
                variant="outline-secondary"
                class="me-2"
                @click="save(r.subject + '.csr', r.pem, true)"
                >Download the request</BButton
              >
              <BButton
                class="alters"
                size="sm"
                variant="outline-danger"
                :disabled="busy"
                @click="forget(r.id)"
                >Drop</BButton
              >
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="total > requests.length" class="soft small">
        The first {{ requests.length }} of {{ total }}.
      </p>
      <h3 class="h6">Signed certificate</h3>
      <MaterialForm
        button="Import certificate"
        :send="answer"
        help="PEM, DER, PKCS #7 or PKCS #12."
      />
    </template>
    <details class="mt-3">
      <summary>Request an issuing CA below a root that is kept elsewhere</summary>
      <form class="mt-2" novalidate @submit.prevent="ownRequest">
        <div class="columns">
          <Field v-model="draft.name" label="Name of the new authority" pointer="/name" required />
          <Field
            v-model="draft.kind"
            kind="choice"
            label="Key type"
            pointer="/kind"
            :choices="keyKinds"
          />
        </div>
        <BButton class="alters" type="submit" size="sm" variant="outline-secondary" :disabled="busy"
          >Create the request</BButton
        >
      </form>
    </details>
    <div class="mt-2"><Notice :text="wrong" /><Notice :text="done" kind="done" /></div>
  </section>
</template>
