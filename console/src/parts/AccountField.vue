<script setup lang="ts">
// Chooses an account by a search for its login or its person.
import { api, ask } from '../api/client'
import SearchField from './SearchField.vue'

defineProps<{ label: string; none: string; pointer: string }>()
const model = defineModel<string>({ required: true })
const most = 20

async function find(text: string) {
  const query = { search: text, limit: most }
  const found = await ask(api.GET('/api/v1/accounts', { params: { query } }))
  const list = found.items.map((a) => ({ value: a.id, text: `${a.login} (${a.person})` }))
  return { list, total: found.total }
}
async function kept(id: string) {
  const one = await ask(api.GET('/api/v1/accounts/{id}', { params: { path: { id } } }))
  return { value: one.id, text: `${one.login} (${one.person})` }
}
</script>

<template>
  <SearchField
    v-model="model"
    :label="label"
    searching="Search logins or people"
    :none="none"
    :most="most"
    plural="accounts"
    :find="find"
    :kept="kept"
    :pointer="pointer"
    described
  />
</template>
