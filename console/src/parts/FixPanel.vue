<script setup lang="ts">
// Fixes all findings of a rule at once, after showing what would be changed.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import JobProgress from './JobProgress.vue'
import Notice from './Notice.vue'
import { useJob } from './useJob'

const props = defineProps<{ rule: string; title: string }>()
const emit = defineEmits<{ fixed: [said: string] }>()
const fixes = ref<Schemas['Fix'][]>([])
const total = ref(0) // profiles, of which the first are shown
const shown = 50
const wrong = ref('')
const path = { path: { rule: props.rule } }
const { job, lost, follow } = useJob(() => {
  void show()
  const r = job.value?.result ?? {}
  emit('fixed', `Fixed: ${r.fixed ?? 0}${r.refused ? `, refused: ${r.refused}` : ''}.`)
})

async function show() {
  try {
    const page = await ask(
      api.GET('/api/v1/rules/{rule}/fixes', { params: { ...path, query: { limit: shown } } }),
    )
    fixes.value = page.items
    total.value = page.total
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
onMounted(show)
async function fix() {
  try {
    follow(await ask(api.POST('/api/v1/rules/{rule}/fixes', { params: path })))
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
const drawn = (v: string) => v.replace(/^ +| +$/g, (b) => '␣'.repeat(b.length))
</script>

<template>
  <section class="panel mb-4" aria-labelledby="fixes">
    <div class="d-flex flex-wrap gap-3 align-items-center mb-2">
      <h2 id="fixes" class="mb-0 me-auto">Fix all: {{ title }}</h2>
      <BButton
        class="alters"
        variant="primary"
        :disabled="job?.state === 'running' || fixes.length === 0"
        @click="fix"
        >Fix all: {{ total }} {{ total === 1 ? 'profile' : 'profiles' }}</BButton
      >
    </div>
    <Notice :text="wrong" />
    <p v-if="total > shown && !job" class="soft">
      The changes of the first {{ shown }} of {{ total }} profiles. The others change in the same
      way.
    </p>
    <JobProgress v-if="job" v-model="job" class="mb-3" of="profiles" :lost="lost" />
    <table v-if="fixes.length" class="grid-table stack">
      <thead>
        <tr>
          <th scope="col">Record</th>
          <th scope="col">Field</th>
          <th scope="col">From</th>
          <th scope="col">To</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(m, i) in fixes" :key="i">
          <td>{{ m.noun }} {{ m.name }}</td>
          <td data-label="Field">{{ m.pointer.slice(1) }}</td>
          <td data-label="From" class="mono">{{ drawn(m.from) }}</td>
          <td data-label="To" class="mono">{{ drawn(m.to) }}</td>
        </tr>
      </tbody>
    </table>
    <p class="soft small mb-0 mt-2">
      Each change is recorded in the audit log; the profiles are checked again.
    </p>
  </section>
</template>
