<script setup lang="ts">
// Has an authority on record issue a certificate to a device, or asks one whose key is elsewhere.
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { save } from './files'
import { useForm } from './useForm'

const props = defineProps<{ device: string; has: boolean }>()
const emit = defineEmits<{ issued: [Schemas['CertificateRow']] }>()
const authorities = ref<Schemas['AuthorityRow'][]>([])
const able = computed(() => authorities.value.filter((a) => !a.retired))
const elsewhere = computed(
  () => able.value.find((a) => a.id === draft.authority_id)?.key_set === false,
)
const { draft, wrong, done, busy, run } = useForm({
  authority_id: '',
  names: [] as string[],
})

onMounted(() =>
  run(async () => {
    authorities.value = (
      await ask(api.GET('/api/v1/authorities', { params: { query: { limit: 100 } } }))
    ).items
    draft.authority_id = (able.value.find((a) => a.key_set) ?? able.value[0])?.id ?? ''
  }, ''),
)
async function issue() {
  if (elsewhere.value) {
    await run(async () => {
      const body = { device_id: props.device, authority_id: draft.authority_id, names: draft.names }
      const r = await ask(api.POST('/api/v1/requests', { body }))
      save(r.subject + '.csr', r.pem, true)
    }, 'The request is downloaded. Have it signed, and import the certificate at Authorities.')
    return
  }
  await run(async () => {
    const body = {
      ...draft,
      device_id: props.device,
      days: 0,
    }
    emit('issued', await ask(api.POST('/api/v1/certificates', { body })))
  }, 'Issued. The old certificate stays valid until it is revoked.')
}
</script>

<template>
  <form class="mt-2" novalidate @submit.prevent="issue">
    <p v-if="able.length === 0" class="soft">
      To issue certificates here,
      <RouterLink to="/authorities">create an authority</RouterLink> first.
    </p>
    <template v-else>
      <div class="columns">
        <Field
          v-model="draft.authority_id"
          kind="choice"
          label="Authority"
          pointer="/authority_id"
          :choices="able.map((a) => ({ value: a.id, text: a.name }))"
        />
        <Field
          v-model="draft.names"
          kind="list"
          label="Names"
          pointer="/names"
          :help="
            'Host names or email addresses that both sides check, one per line. Empty creates ' +
            'one below your domain.'
          "
        />
      </div>
      <BButton
        class="alters"
        type="submit"
        size="sm"
        variant="outline-secondary"
        :disabled="busy"
        >{{
          elsewhere ? 'Create a request' : has ? 'Issue a new certificate' : 'Issue a certificate'
        }}</BButton
      >
    </template>
    <Notice :text="wrong" /><Notice :text="done" kind="done" />
  </form>
</template>
