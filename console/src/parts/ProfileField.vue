<script setup lang="ts">
// Chooses a profile by a search for its device, person or gateway.
import { api, ask } from '../api/client'
import SearchField from './SearchField.vue'

defineProps<{ label: string; none: string }>()
const model = defineModel<string>({ required: true })

async function find(text: string) {
  const query = { search: text, limit: 50 }
  const found = await ask(api.GET('/api/v1/profiles', { params: { query } }))
  const list = found.items.map((p) => ({
    value: p.id,
    text: `${p.device} → ${p.gateway} (${p.person})`,
  }))
  return { list, total: found.total }
}
async function kept(id: string) {
  const one = await ask(api.GET('/api/v1/profiles/{id}', { params: { path: { id } } }))
  return { value: one.id, text: `${one.device} → ${one.gateway}` }
}
</script>

<template>
  <SearchField
    v-model="model"
    :label="label"
    searching="Search devices, people or gateways"
    :none="none"
    :find="find"
    :kept="kept"
  />
</template>
