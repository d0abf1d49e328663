<script setup lang="ts">
// The way from an authority to its successor, and the renewal of what it has issued.
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import JobProgress from './JobProgress.vue'
import Notice from './Notice.vue'
import { useForm } from './useForm'
import { useJob } from './useJob'

const props = defineProps<{ authority: Schemas['AuthorityRow'] }>()
const emit = defineEmits<{ changed: [] }>()
const at = ref<Schemas['Rollover']>()
const others = ref<{ value: string; text: string }[]>([])
const { draft, wrong, done, busy, run } = useForm({ successor_id: '', anyway: false })
const params = computed(() => ({ path: { id: props.authority.id } }))
const { job, lost, follow } = useJob(async () => {
  await look()
  emit('changed')
})

async function look() {
  const rows = (await ask(api.GET('/api/v1/authorities', { params: { query: { limit: 200 } } })))
    .items
  others.value = rows
    .filter((a) => a.id !== props.authority.id && !a.retired)
    .map((a) => ({ value: a.id, text: a.name }))
  draft.successor_id ||= others.value[0]?.value ?? ''
  at.value = props.authority.successor_id
    ? await ask(api.GET('/api/v1/authorities/{id}/rollover', { params: params.value }))
    : undefined
}
onMounted(() => run(look, ''))
async function step(name: 'begin' | 'finish' | 'undo', said: string) {
  await run(async () => {
    const body = { step: name, successor_id: draft.successor_id, anyway: draft.anyway }
    const now = await ask(
      api.POST('/api/v1/authorities/{id}/rollover', { params: params.value, body }),
    )
    at.value = name === 'undo' ? undefined : now
    emit('changed')
  }, said)
}
async function renew(days: number) {
  await run(async () => {
    follow(
      await ask(
        api.POST('/api/v1/authorities/{id}/renewals', { params: params.value, body: { days } }),
      ),
    )
  }, '')
}
</script>

<template>
  <section class="panel mb-4" aria-labelledby="rollover">
    <h2 id="rollover">{{ at ? `Rollover to ${at.to.name}` : 'CA rollover' }}</h2>
    <template v-if="at && !at.finished">
      <p class="soft">Both are trusted. Still depending on {{ authority.name }}:</p>
      <dl class="facts">
        <dt>Devices</dt>
        <dd>{{ at.devices }} with a certificate of it</dd>
        <dt>Gateways</dt>
        <dd>{{ at.servers }} that present one of it</dd>
        <dt>Parcels</dt>
        <dd>{{ at.parcels }} profiles without a parcel that has both</dd>
      </dl>
      <ul v-if="at.gateways.length" class="small">
        <li v-for="g in at.gateways" :key="g.id">
          <RouterLink :to="`/gateways/${g.id}`">{{ g.name }}</RouterLink>
          {{ g.old ? 'shows one of the old' : 'shows none of the old' }}
        </li>
      </ul>
      <div class="d-flex flex-wrap gap-2 mb-2">
        <BButton
          v-if="at.devices"
          class="alters"
          size="sm"
          variant="primary"
          :disabled="busy"
          @click="renew(-1)"
          >Renew the devices' certificates</BButton
        >
        <BButton
          class="alters"
          size="sm"
          variant="outline-secondary"
          :disabled="busy"
          @click="step('finish', 'Finished.')"
          >Finish</BButton
        >
        <BButton
          class="alters"
          size="sm"
          variant="outline-secondary"
          :disabled="busy"
          @click="step('undo', 'As before.')"
          >Undo</BButton
        >
      </div>
      <Field v-model="draft.anyway" kind="check" label="Finish although some still depend on it" />
    </template>
    <p v-else-if="at">
      Finished: nothing names {{ authority.name }} any more. Its CRL is still served.
    </p>
    <template v-else>
      <p class="soft">
        The gateways' offers then name both, parcels carry both, and this one stops issuing.
      </p>
      <p v-if="others.length === 0" class="soft">Create or import its successor first.</p>
      <form v-else novalidate @submit.prevent="step('begin', 'Begun.')">
        <Field
          v-model="draft.successor_id"
          kind="choice"
          label="Successor"
          pointer="/successor_id"
          :choices="others"
        />
        <BButton class="alters" type="submit" size="sm" variant="outline-secondary" :disabled="busy"
          >Begin</BButton
        >
      </form>
      <template v-if="authority.certificates">
        <h3 class="h6 mt-3">Renewing</h3>
        <p class="soft">Done automatically every day, by the settings below.</p>
        <BButton
          class="alters"
          size="sm"
          variant="outline-secondary"
          :disabled="busy"
          @click="renew(60)"
          >Renew what expires within 60 days</BButton
        >
      </template>
    </template>
    <JobProgress v-if="job" v-model="job" class="mt-2" of="certificates" :lost="lost" />
    <div class="mt-2"><Notice :text="wrong" /><Notice :text="done" kind="done" /></div>
  </section>
</template>
