<script setup lang="ts">
// How far a job has come, what came of it, and a way to cancel it.
import { computed, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Notice from './Notice.vue'

const props = defineProps<{ of: string; lost?: string }>() // what it counts, such as devices
const job = defineModel<Schemas['Job']>({ required: true })
const wrong = ref('')
const result = computed(() =>
  Object.entries(job.value.result ?? {})
    .map(([what, n]) => `${n} ${what}`)
    .join(', '),
)
const emit = defineEmits<{ undo: [job: Schemas['Job']] }>()
const at = () => ({ params: { path: { id: job.value.id } } })
async function run(what: () => Promise<unknown>) {
  wrong.value = ''
  try {
    await what()
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
const cancel = () =>
  run(async () => (job.value = await ask(api.POST('/api/v1/jobs/{id}/cancellation', at()))))
const undo = () =>
  run(async () => emit('undo', await ask(api.POST('/api/v1/jobs/{id}/undo', at()))))
</script>

<template>
  <div>
    <Notice :text="wrong || (lost ?? '')" />
    <div role="status">
      <BProgress
        v-if="job.state === 'running'"
        class="mb-1"
        :value="job.done"
        :max="Math.max(job.total, 1)"
        :aria-label="job.title"
      />
      {{ job.title }}: {{ job.state }}, {{ job.done }} of {{ job.total }} {{ props.of
      }}<template v-if="result">: {{ result }}</template
      >. {{ job.problem }}
      <BButton
        v-if="job.state === 'running'"
        class="alters ms-2"
        size="sm"
        variant="outline-secondary"
        @click="cancel"
        >Cancel</BButton
      >
      <BButton
        v-else-if="job.kind === 'selection' && job.result?.moved"
        class="alters ms-2"
        size="sm"
        variant="outline-secondary"
        @click="undo"
        >Undo</BButton
      >
    </div>
  </div>
</template>
