<script setup lang="ts">
// The certificate that a gateway shows: its chain, a new one with its files, or one that others
// issued.
import { computed, onMounted, ref, watch } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import ChainView from './ChainView.vue'
import Field from './Field.vue'
import MaterialForm from './MaterialForm.vue'
import Notice from './Notice.vue'
import { save, type Material } from './files'
import { keyKinds } from './keyKinds'
import { useForm } from './useForm'

const props = defineProps<{ id: string; version: number }>()
const emit = defineEmits<{ changed: [] }>()
const chain = ref<Schemas['Chain']>()
const bundle = ref<Schemas['GatewayBundle']>()
const authorities = ref<Schemas['AuthorityRow'][]>([])
const able = computed(() => authorities.value.filter((a) => a.key_set && !a.retired))
const { draft, wrong, busy, run } = useForm({ authority_id: '', kind: 'p256', days: 0 })

async function look() {
  const path = { noun: 'gateway' as const, id: props.id }
  chain.value = await ask(api.GET('/api/v1/chains/{noun}/{id}', { params: { path } }))
}
onMounted(() =>
  run(async () => {
    await look()
    authorities.value = (
      await ask(api.GET('/api/v1/authorities', { params: { query: { limit: 200 } } }))
    ).items
    draft.authority_id = able.value[0]?.id ?? ''
  }, ''),
)
watch(
  () => props.version,
  () => void look(),
)
async function make() {
  await run(async () => {
    const body = { ...draft }
    bundle.value = await ask(
      api.POST('/api/v1/gateways/{id}/certificate-bundle', {
        params: { path: { id: props.id } },
        body,
      }),
    )
    emit('changed')
  }, '')
}
async function bring(m: Material) {
  await ask(
    api.POST('/api/v1/gateways/{id}/presented-certificate', {
      params: { path: { id: props.id } },
      body: m,
    }),
  )
  emit('changed')
}
</script>

<template>
  <section class="panel mt-4" aria-labelledby="shown">
    <h2 id="shown">Its certificate</h2>
    <ChainView
      v-if="chain"
      :links="chain.links"
      :against="chain.against"
      :empty="
        'None on record. With one, the chain is checked against the CAs that devices trust, and ' +
        'its expiry is watched.'
      "
    />
    <div v-if="bundle" class="finding note mt-3" role="status">
      <p class="mb-2">
        Made for {{ bundle.certificate.names.join(', ') }}. The key is not stored here: download the
        files now and install them on the gateway.
      </p>
      <BButton
        size="sm"
        variant="primary"
        class="me-2"
        @click="save(chain?.name + '.zip', bundle.archive)"
        >Download all as an archive</BButton
      >
      <p class="mt-2 mb-1">
        Passphrase of the PKCS #12 file, shown only now:
        <span class="mono">{{ bundle.passphrase }}</span>
      </p>
      <ul class="small mb-0">
        <li v-for="f in bundle.files" :key="f.name">
          <button type="button" class="linklike" @click="save(f.name, f.content)">
            {{ f.name }}</button>: {{ f.purpose }}
        </li>
      </ul>
    </div>
    <details class="mt-3">
      <summary>{{ chain?.links.length ? 'Replace it' : 'Create it' }}</summary>
      <form v-if="able.length" class="mt-2" novalidate @submit.prevent="make">
        <p class="soft">
          If the key can stay on the gateway, sign its request instead:
          <span class="mono">wardicon certificate sign</span>.
        </p>
        <div class="columns">
          <Field
            v-model="draft.authority_id"
            kind="choice"
            label="Authority"
            pointer="/authority_id"
            :choices="able.map((a) => ({ value: a.id, text: a.name }))"
          />
          <Field
            v-model="draft.kind"
            kind="choice"
            label="Key type"
            pointer="/kind"
            :choices="keyKinds"
          />
          <Field
            v-model="draft.days"
            kind="number"
            label="Validity in days"
            pointer="/days"
            help="0 uses the authority's setting."
          />
        </div>
        <BButton class="alters" type="submit" size="sm" variant="outline-secondary" :disabled="busy"
          >Create key and certificate</BButton
        >
      </form>
      <h3 class="h6 mt-3">Or import a certificate</h3>
      <MaterialForm
        button="Note it"
        :send="bring"
        help="The certificate and its intermediates, without the key."
      />
    </details>
    <div class="mt-2"><Notice :text="wrong" /></div>
  </section>
</template>
