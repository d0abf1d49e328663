<script setup lang="ts">
// Signing certificate: made by an authority here, or brought in.
import { computed, onMounted, ref } from 'vue'
import { api, ask, seen, type Schemas } from '../api/client'
import ChainView from './ChainView.vue'
import Field from './Field.vue'
import MaterialForm from './MaterialForm.vue'
import Notice from './Notice.vue'
import RemoveButton from './RemoveButton.vue'
import type { Material } from './files'
import { useForm } from './useForm'

const props = defineProps<{ authorities: Schemas['AuthorityRow'][] }>()
const signer = ref<Schemas['Signer']>()
const able = computed(() => props.authorities.filter((a) => a.key_set && !a.retired))
const { draft, wrong, done, busy, run } = useForm({ authority_id: '', name: '', days: 0 })

onMounted(() =>
  run(async () => {
    signer.value = await ask(api.GET('/api/v1/signer'))
    draft.authority_id = able.value[0]?.id ?? ''
  }, ''),
)
const now = () => seen(signer.value?.version ?? 0)
async function make() {
  await run(async () => {
    signer.value = await ask(
      api.POST('/api/v1/signer', {
        ...now(),
        body: draft,
      }),
    )
  }, 'Parcels are signed with it from now on.')
}
async function bring(m: Material) {
  signer.value = await ask(api.POST('/api/v1/imported-signer', { ...now(), body: m }))
}
const remove = () => ask(api.DELETE('/api/v1/signer', now()))
async function removed() {
  signer.value = await ask(api.GET('/api/v1/signer'))
}
</script>

<template>
  <section class="panel mb-4" aria-labelledby="signer">
    <h2 id="signer">Signing certificate</h2>
    <template v-if="signer?.set">
      <p class="soft">
        Apple profiles are signed directly, all other files by a signed list of digests. A new
        certificate makes existing parcels outdated.
      </p>
      <ChainView :links="signer.links" />
    </template>
    <p v-else-if="signer" class="soft">
      None. With signed parcels, devices show who issued a profile, and changes in transit are
      noticed.
    </p>
    <details class="mt-3">
      <summary>{{ signer?.set ? 'Import another one' : 'Import one' }}</summary>
      <form v-if="able.length" class="mt-2" novalidate @submit.prevent="make">
        <div class="columns">
          <Field
            v-model="draft.authority_id"
            kind="choice"
            label="Authority"
            pointer="/authority_id"
            :choices="able.map((a) => ({ value: a.id, text: a.name }))"
          />
          <Field
            v-model="draft.name"
            label="Name that people see"
            pointer="/name"
            help="Empty uses your organisation's."
          />
        </div>
        <BButton class="alters" type="submit" size="sm" variant="outline-secondary" :disabled="busy"
          >Issue one</BButton
        >
      </form>
      <h3 class="h6 mt-3">Or import one</h3>
      <MaterialForm
        button="Import"
        keyed
        :send="bring"
        said="Parcels are signed with it from now on."
      />
    </details>
    <div class="mt-2"><Notice :text="wrong" /><Notice :text="done" kind="done" /></div>
    <RemoveButton
      v-if="signer?.set"
      noun="signer"
      :name="signer.subject"
      :remove="remove"
      @removed="removed"
    />
  </section>
</template>
