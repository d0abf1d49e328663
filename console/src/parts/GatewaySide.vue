<script setup lang="ts">
// The gateway's own side: a configuration for its daemons, and whether it fetches that by itself.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import { useSession } from '../api/session'
import Notice from './Notice.vue'
import { save } from './files'
import { useForm } from './useForm'
import { exact } from './times'

const props = defineProps<{ id: string; name: string }>()
const session = useSession()
const made = ref<Schemas['GatewayConfiguration']>()
const delivery = ref<Schemas['Delivery']>()
const { wrong, busy, run } = useForm({})
const path = { id: props.id }

onMounted(async () => {
  try {
    delivery.value = await ask(api.GET('/api/v1/gateways/{id}/delivery', { params: { path } }))
  } catch {
    // it does not fetch
  }
})
async function make() {
  await run(async () => {
    made.value = await ask(api.POST('/api/v1/gateways/{id}/configurations', { params: { path } }))
  }, '')
}
</script>

<template>
  <section class="panel mt-4" aria-labelledby="side">
    <h2 id="side">Configuration of its daemons</h2>
    <p class="soft">
      A working configuration of the open daemons of Debian, made from this record: IKE daemon, TLS
      tunnel, L2TP, PPTP, their users, and rules of a packet filter.
    </p>
    <p v-if="delivery">
      <template v-if="!delivery.seen">The gateway may fetch it, and has not asked yet.</template>
      <template v-else-if="delivery.runs === delivery.offered"
        >It asked {{ exact(delivery.seen) }}, and runs what was on record then.</template
      >
      <template v-else
        ><span class="tag warning">older</span> It asked {{ exact(delivery.seen) }}, and does not
        run what is on record.</template
      >
    </p>
    <BButton
      v-if="session.may('owner')"
      size="sm"
      variant="outline-secondary"
      :disabled="busy"
      @click="make"
      >Make configuration</BButton
    >
    <div v-if="made" class="finding note mt-3" role="status">
      <p class="mb-2">
        For {{ made.users }} {{ made.users === 1 ? 'account' : 'accounts' }}. Some of the files hold
        passwords: let nobody but the gateway have them.
      </p>
      <BButton
        size="sm"
        variant="primary"
        class="mb-2"
        @click="save(`${name}-configuration.zip`, made.archive ?? '')"
        >Download all as an archive</BButton
      >
      <ul class="small mb-0">
        <li v-for="f in made.files" :key="f.name">
          <button type="button" class="linklike" @click="save(f.name, f.content)">
            {{ f.name }}</button>: {{ f.purpose }}
        </li>
      </ul>
      <template v-if="made.left.length">
        <p class="mt-2 mb-1">Left to you:</p>
        <ul class="small mb-0">
          <li v-for="text in made.left" :key="text">{{ text }}</li>
        </ul>
      </template>
    </div>
    <div class="mt-2"><Notice :text="wrong" /></div>
  </section>
</template>
