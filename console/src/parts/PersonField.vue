<script setup lang="ts">
// Chooses a person. Where there are more than a list can show, a search narrows it; the
// person who is chosen stays in it.
import { computed } from 'vue'
import { api, ask } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { useChoices } from './useChoices'

const props = defineProps<{ pointer: string }>()
const model = defineModel<string>({ required: true })
const most = 50
const { search, total, wrong, choices } = useChoices(
  model,
  async (text) => {
    const found = await ask(
      api.GET('/api/v1/people', { params: { query: { search: text, limit: most } } }),
    )
    const list = found.items.map((p) => ({
      value: p.id,
      text: p.mail ? `${p.name} (${p.mail})` : p.name,
    }))
    return { list, total: found.total }
  },
  async (id) => {
    const kept = await ask(api.GET('/api/v1/people/{id}', { params: { path: { id } } }))
    return { value: kept.id, text: kept.name }
  },
)
const shown = computed(() => [
  { value: '', text: choices.value.length ? 'Choose…' : 'No matches' },
  ...choices.value,
])
</script>

<template>
  <div>
    <Field
      v-if="total > most"
      v-model="search"
      label="Search people"
      :help="`${total} people; type part of a name or email address`"
    />
    <Field
      v-model="model"
      kind="choice"
      label="Person"
      :pointer="props.pointer"
      :choices="shown"
      required
    />
    <Notice :text="wrong" />
  </div>
</template>
