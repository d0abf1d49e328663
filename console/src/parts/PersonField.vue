<script setup lang="ts">
// Chooses a person.
import { api, ask } from '../api/client'
import SearchField from './SearchField.vue'

defineProps<{ pointer: string }>()
const model = defineModel<string>({ required: true })
const most = 50

async function find(text: string) {
  const query = { search: text, limit: most }
  const found = await ask(api.GET('/api/v1/people', { params: { query } }))
  const list = found.items.map((p) => ({
    value: p.id,
    text: p.mail ? `${p.name} (${p.mail})` : p.name,
  }))
  return { list, total: found.total }
}
async function kept(id: string) {
  const one = await ask(api.GET('/api/v1/people/{id}', { params: { path: { id } } }))
  return { value: one.id, text: one.name }
}
</script>

<template>
  <SearchField
    v-model="model"
    label="Person"
    searching="Search people"
    none="Choose…"
    :most="most"
    plural="people"
    :find="find"
    :kept="kept"
    :pointer="pointer"
    required
  />
</template>
