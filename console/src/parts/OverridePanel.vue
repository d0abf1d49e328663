<script setup lang="ts">
// Overrides an error on one profile temporarily, or removes the override.
import { computed, ref } from 'vue'
import { api, ask, type Finding } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { useForm } from './useForm'
import { day } from './times'

const props = defineProps<{ id: string; finding: Finding }>()
const emit = defineEmits<{ changed: [] }>()
const open = ref(false)
const soon = new Date(Date.now() + 14 * 86_400_000).toISOString().slice(0, 10)
const form = useForm({ reason: '', until: soon })
const params = computed(() => ({ path: { id: props.id, rule: props.finding.rule } }))

async function pass() {
  await form.run(async () => {
    const body = {
      reason: form.draft.reason,
      until: new Date(form.draft.until + 'T00:00:00').toISOString(),
    }
    await ask(api.PUT('/api/v1/profiles/{id}/overrides/{rule}', { params: params.value, body }))
    open.value = false
    emit('changed')
  }, '')
}
async function end() {
  await form.run(async () => {
    await ask(api.DELETE('/api/v1/profiles/{id}/overrides/{rule}', { params: params.value }))
    emit('changed')
  }, '')
}
</script>

<template>
  <div v-if="finding.override" class="mt-1">
    <strong>Overridden until {{ day(finding.override.until) }}</strong
    >: {{ finding.override.reason }} <span class="soft">({{ finding.override.operator }})</span>
    <BButton
      size="sm"
      variant="outline-secondary"
      class="alters ms-2"
      :disabled="form.busy.value"
      @click="end"
      >End the override</BButton
    >
    <Notice :text="form.wrong.value" />
  </div>
  <template v-else-if="finding.severity === 'error' && finding.rule !== 'format-unfit'">
    <BButton
      v-if="!open"
      size="sm"
      variant="outline-secondary"
      class="alters mt-1"
      @click="open = true"
      >Override temporarily…</BButton
    >
    <form v-else class="columns mt-2" novalidate @submit.prevent="pass">
      <Field v-model="form.draft.reason" label="Reason" pointer="/reason" />
      <Field v-model="form.draft.until" label="Until (year-month-day)" pointer="/until" />
      <div>
        <Notice :text="form.wrong.value" />
        <BButton
          class="alters"
          size="sm"
          type="submit"
          variant="primary"
          :disabled="form.busy.value"
          >Override</BButton
        >
        <BButton size="sm" variant="link" @click="open = false">Cancel</BButton>
        <p class="soft small mb-0">Shown with the profile and recorded in the audit log.</p>
      </div>
    </form>
  </template>
</template>
