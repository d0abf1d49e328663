<script setup lang="ts">
// Asks an address that is on no record, which only owners may; what it answers is not kept.
import { ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import AnswerTable from '../parts/AnswerTable.vue'
import Field from '../parts/Field.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import { useForm } from '../parts/useForm'
import { told } from '../told'

const { draft, wrong, busy, run } = useForm({ address: '', off_record: false })
const probe = ref<Schemas['Probe']>()
const probeIt = () =>
  run(async () => {
    probe.value = undefined
    probe.value = await ask(api.POST('/api/v1/probes', { body: { ...draft } }))
  }, '')
</script>

<template>
  <PageHead title="Probe an address" back="/gateways" back-text="Gateways" />
  <p class="soft">
    For a gateway that is not on record yet: it is probed on the default port of every protocol.
    Results are not stored; the probe is recorded in the audit log.
  </p>
  <form class="panel mb-4" novalidate @submit.prevent="probeIt">
    <Field
      v-model="draft.address"
      label="Address"
      pointer="/address"
      help="A host name or an IP address."
    />
    <Field
      v-model="draft.off_record"
      kind="check"
      label="It is ours, or its owner agrees to the probe"
      pointer="/off_record"
    />
    <Notice :text="wrong" />
    <BButton type="submit" variant="primary" class="mt-2" :disabled="busy || !draft.off_record">{{
      busy ? 'Probing…' : 'Probe'
    }}</BButton>
  </form>
  <section v-if="probe" class="panel" aria-labelledby="answers" aria-live="polite">
    <h2 id="answers">What {{ probe.gateway }} answers</h2>
    <p v-for="n in probe.names ?? []" :key="n.name" class="soft">
      <span class="mono">{{ n.name }}</span> resolves to
      {{ (n.addresses ?? []).join(', ') || n.fault || 'nothing' }}.
    </p>
    <AnswerTable :answers="probe.answers ?? []" />
    <div
      v-for="d in probe.differences ?? []"
      :key="d.text"
      class="finding mt-2"
      :class="d.severity"
    >
      <p class="mb-1">
        <strong>{{ told(d.text) }}</strong>
      </p>
      <p class="mb-0">{{ told(d.fix) }}</p>
    </div>
  </section>
</template>
