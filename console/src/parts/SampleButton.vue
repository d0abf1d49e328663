<script setup lang="ts">
// Has the service rehearse a sample of the profiles of a gateway or a pattern.
import { ref } from 'vue'
import { api, ask, type Schemas, ServiceError } from '../api/client'
import JobProgress from './JobProgress.vue'
import Notice from './Notice.vue'
import { useJob } from './useJob'

const props = defineProps<{ noun: 'gateway' | 'pattern'; id: string }>()
const busy = ref(false)
const wrong = ref('')
const skipped = ref<Schemas['SkippedRehearsal'][]>([])
const { job, lost, follow } = useJob(() => undefined)

async function begin() {
  busy.value = true
  wrong.value = ''
  job.value = undefined
  const of = { params: { path: { id: props.id } } }
  try {
    const sample = await ask(
      props.noun === 'gateway'
        ? api.POST('/api/v1/gateways/{id}/rehearsals', of)
        : api.POST('/api/v1/patterns/{id}/rehearsals', of),
    )
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
    >Rehearse a sample</BButton
  >
  <div v-if="job || wrong" class="w-100">
    <Notice :text="wrong" />
    <template v-if="job">
      <JobProgress v-model="job" of="profiles" :lost="lost" />
      <p class="soft mb-0">
        Each login signs in once a minute at most. Results are on the page
        <RouterLink to="/rehearsals">Rehearsals</RouterLink>.
      </p>
      <details v-if="skipped.length" class="mt-2">
        <summary>{{ skipped.length }} not rehearsed</summary>
        <ul>
          <li v-for="s in skipped" :key="s.profile_id">{{ s.device }}: {{ s.reason }}</li>
        </ul>
      </details>
    </template>
  </div>
</template>
