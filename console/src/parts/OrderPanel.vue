<script setup lang="ts">
// A gateway's certificate that an ACME CA issues and renews.
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { exact } from './times'
import { useForm } from './useForm'

const props = defineProps<{ id: string }>()
const emit = defineEmits<{ changed: [] }>()
const list = ref<Schemas['OrderList']>()
const order = computed(() => list.value?.items.find((o) => o.gateway_id === props.id))
const { draft, wrong, busy, run } = useForm({
  request: '',
  challenge: 'http-01' as 'http-01' | 'dns-01',
})
const ways = computed(() =>
  (list.value?.challenges ?? []).map((value) => ({
    value,
    text: value === 'http-01' ? 'HTTP (http-01)' : 'DNS (dns-01)',
  })),
)
const params = { path: { id: props.id } }

async function look() {
  const before = order.value?.state
  list.value = await ask(api.GET('/api/v1/certificate-orders'))
  if (before === 'waiting' && order.value?.state === 'issued') emit('changed')
}
onMounted(() => run(look, ''))
const clock = setInterval(() => {
  if (order.value?.state === 'waiting') void look()
}, 1000)
onUnmounted(() => clearInterval(clock))

async function place() {
  await run(async () => {
    await ask(api.PUT('/api/v1/gateways/{id}/certificate-order', { params, body: { ...draft } }))
    draft.request = ''
    await look()
  }, '')
}
async function end() {
  await run(async () => {
    await ask(api.DELETE('/api/v1/gateways/{id}/certificate-order', { params }))
    await look()
  }, '')
}
</script>

<template>
  <section v-if="list && (ways.length || order)" class="panel mt-4" aria-labelledby="order">
    <h2 id="order">Certificate from the ACME CA</h2>
    <template v-if="order">
      <p class="mb-2">
        <span v-if="order.state === 'waiting'" class="tag">waiting</span>
        <span v-else-if="order.state === 'issued'" class="tag fine">issued</span>
        <span v-else class="tag error">failed</span>
        {{ order.names.join(', ') }}
      </p>
      <p v-if="order.problem" class="mb-2">The CA said: {{ order.problem }}</p>
      <p v-if="order.state === 'issued' && order.expires" class="mb-2">
        Expires on {{ exact(order.expires) }}; renewed on {{ exact(order.next) }}.
      </p>
      <p v-if="order.state === 'failed'" class="mb-2">Tried again on {{ exact(order.next) }}.</p>
      <p class="mb-1">The CA has to find:</p>
      <ul class="mb-3">
        <li v-for="line in order.setup" :key="line" class="mono text-break">{{ line }}</li>
      </ul>
      <BButton class="alters" size="sm" variant="outline-secondary" :disabled="busy" @click="end"
        >Renew it no longer</BButton
      >
    </template>
    <details v-if="ways.length" :open="!order" class="mt-3">
      <summary>{{ order ? 'Order it again' : 'Order it' }}</summary>
      <form class="mt-2" novalidate @submit.prevent="place">
        <p class="soft">
          The key stays on the gateway: it makes a signing request (PKCS #10) with its host names,
          and the certificate is renewed for that key ahead of each expiry.
        </p>
        <div class="columns">
          <Field
            v-model="draft.request"
            kind="pem"
            label="Signing request"
            pointer="/request"
            required
          />
          <Field
            v-model="draft.challenge"
            kind="choice"
            label="How the CA checks the names"
            pointer="/challenge"
            :choices="ways"
          />
        </div>
        <BButton class="alters" type="submit" size="sm" variant="outline-secondary" :disabled="busy"
          >Order the certificate</BButton
        >
      </form>
    </details>
    <div class="mt-2"><Notice :text="wrong" /></div>
  </section>
</template>
