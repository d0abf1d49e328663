<script setup lang="ts">
// Has the service rehearse a sample of the profiles of a gateway or a pattern, or all offers of the
// gateway of a profile.
import { ref } from 'vue'
import { api, ask, type Schemas, ServiceError } from '../api/client'
import JobProgress from './JobProgress.vue'
import Notice from './Notice.vue'
import { useJob } from './useJob'

const props = defineProps<{ noun: 'gateway' | 'pattern' | 'profile'; id: string }>()
const busy = ref(false)
const wrong = ref('')
const skipped = ref<Schemas['SkippedRehearsal'][]>([])
const { job, lost, follow } = useJob(() => undefined)

type Of = { params: { path: { id: string } } }
const begins = {
  gateway: (of: Of) => api.POST('/api/v1/gateways/{id}/rehearsals', of),
  pattern: (of: Of) => api.POST('/api/v1/patterns/{id}/rehearsals', of),
  profile: (of: Of) => api.POST('/api/v1/profiles/{id}/offer-rehearsals', { ...of, body: {} }),
}

async function begin() {
  busy.value = true
  wrong.value = ''
  job.value = undefined
  const of = { params: { path: { id: props.id } } }
  try {
    const sample = await ask(begins[props.noun](of))
    skipped.value = sample.skipped
    follow(sample.job)
  } catch (e) {
    const reasons = e instanceof ServiceError ? Object.values(e.fields) : []
    wrong.value = reasons.join(' ') || (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <BButton
    class="alters"
    variant="outline-secondary"
    size="sm"
    :disabled="busy || job?.state === 'running'"
    @click="begin"
    >{{ noun === 'profile' ? 'Rehearse all offers' : 'Rehearse a sample' }}</BButton
  >
  <div v-if="job || wrong" class="w-100">
    <Notice :text="wrong" />
    <template v-if="job">
      <JobProgress v-model="job" :of="noun === 'profile' ? 'offers' : 'profiles'" :lost="lost" />
      <p class="soft mb-0">
        Each login signs in once a minute at most. Results are in the matrix on the page
        <RouterLink to="/rehearsals">Rehearsals</RouterLink>.
      </p>
      <details v-if="skipped.length" class="mt-2">
        <summary>{{ skipped.length }} not rehearsed</summary>
        <ul>
          <li v-for="s in skipped" :key="s.device">{{ s.device }}: {{ s.reason }}</li>
        </ul>
      </details>
    </template>
  </div>
</template>
