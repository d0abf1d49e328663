<script setup lang="ts">
// Has the service rehearse a sample of the profiles of a gateway or a pattern.
import { ref } from 'vue'
import { api, ask, type Schemas, ServiceError } from '../api/client'
import Notice from './Notice.vue'

const props = defineProps<{ noun: 'gateway' | 'pattern'; id: string }>()
const busy = ref(false)
const wrong = ref('')
const begun = ref(0)
const skipped = ref<Schemas['SkippedRehearsal'][]>([])

async function begin() {
  busy.value = true
  wrong.value = ''
  begun.value = 0
  const of = { params: { path: { id: props.id } } }
  try {
    const sample = await ask(
      props.noun === 'gateway'
        ? api.POST('/api/v1/gateways/{id}/rehearsals', of)
        : api.POST('/api/v1/patterns/{id}/rehearsals', of),
    )
    begun.value = sample.profiles.length
    skipped.value = sample.skipped
  } catch (e) {
    const reasons = e instanceof ServiceError ? Object.values(e.fields) : []
    wrong.value = reasons.join(' ') || (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <BButton variant="outline-secondary" size="sm" :disabled="busy" @click="begin"
    >Rehearse a sample</BButton
  >
  <div v-if="begun || wrong" class="w-100" role="status">
    <p v-if="begun" class="mb-0">
      {{ begun }} {{ begun === 1 ? 'rehearsal begins' : 'rehearsals begin' }}, each login once a
      minute at most: <RouterLink to="/rehearsals">Rehearsals</RouterLink>
    </p>
    <details v-if="skipped.length" class="mt-2">
      <summary>{{ skipped.length }} not rehearsed</summary>
      <ul>
        <li v-for="s in skipped" :key="s.profile_id">{{ s.device }}: {{ s.reason }}</li>
      </ul>
    </details>
    <Notice :text="wrong" />
  </div>
</template>
