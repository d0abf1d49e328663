<script setup lang="ts">
// Chooses a profile by a search for its device, person or gateway.
import { computed } from 'vue'
import { api, ask } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { useChoices } from './useChoices'

const props = defineProps<{ label: string; none: string }>()
const model = defineModel<string>({ required: true })
const { search, wrong, choices } = useChoices(
  model,
  async (text) => {
    const found = await ask(
      api.GET('/api/v1/profiles', { params: { query: { search: text, limit: 50 } } }),
    )
    const list = found.items.map((p) => ({
      value: p.id,
      text: `${p.device} → ${p.gateway} (${p.person})`,
    }))
    return { list, total: found.total }
  },
  async (id) => {
    const kept = await ask(api.GET('/api/v1/profiles/{id}', { params: { path: { id } } }))
    return { value: kept.id, text: `${kept.device} → ${kept.gateway}` }
  },
)
const shown = computed(() => [{ value: '', text: props.none }, ...choices.value])
</script>

<template>
  <div>
    <Field v-model="search" label="Search devices, people or gateways" />
    <Field v-model="model" kind="choice" :label="props.label" :choices="shown" />
    <Notice :text="wrong" />
  </div>
</template>
