<script setup lang="ts">
// Asks for the reason before a certificate is taken back, and says what that touched.
import { ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { useForm } from './useForm'

const props = defineProps<{ id: string; name: string }>()
const emit = defineEmits<{ revoked: [] }>()
const asking = ref(false)
const touched = ref<Schemas['Revocation']>()
const { draft, wrong, busy, run } = useForm({ reason: 'superseded' })
const reasons = [
  { value: 'superseded', text: 'superseded' },
  { value: 'key-compromise', text: 'key compromise' },
  { value: 'ceased', text: 'device or person is gone' },
  { value: 'unspecified', text: 'another reason' },
]

async function go() {
  await run(async () => {
    const params = { path: { id: props.id } }
    const body = { reason: draft.reason } as Schemas['ReasonInputBody']
    touched.value = await ask(api.POST('/api/v1/certificates/{id}/revocation', { params, body }))
  }, '')
}
function close() {
  asking.value = false
  if (touched.value) emit('revoked')
}
</script>

<template>
  <BButton class="alters" size="sm" variant="outline-danger" @click="asking = true"
    >Revoke…</BButton
  >
  <BModal
    v-model="asking"
    :title="`Revoke the certificate of ${name}?`"
    title-tag="h2"
    no-footer
    lazy
    teleport-to="body"
    @hidden="close"
  >
    <template v-if="!touched">
      <p>Gateways that check the CRL refuse it from then on. It cannot be undone.</p>
      <Field
        v-model="draft.reason"
        kind="choice"
        label="Why"
        pointer="/reason"
        :choices="reasons"
      />
      <Notice :text="wrong" />
      <div class="d-flex gap-2 justify-content-end mt-3">
        <BButton variant="outline-secondary" @click="close">Cancel</BButton>
        <BButton class="alters" variant="outline-danger" :disabled="busy" @click="go"
          >Revoke</BButton
        >
      </div>
    </template>
    <template v-else>
      <p v-if="touched.profiles.length === 0" class="mb-0">Revoked. No profile used it.</p>
      <template v-else>
        <p>Revoked. These profiles need a new certificate:</p>
        <ul>
          <li v-for="p in touched.profiles" :key="p">{{ p }}</li>
        </ul>
      </template>
      <div class="d-flex justify-content-end mt-3">
        <BButton variant="primary" @click="close">Done</BButton>
      </div>
    </template>
  </BModal>
</template>
