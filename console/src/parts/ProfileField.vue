<script setup lang="ts">
// Chooses a profile by a search for its device, person or gateway.
import { onMounted, ref, watch } from 'vue'
import { api, ask } from '../api/client'
import Field from './Field.vue'

const props = defineProps<{ label: string; none: string }>()
const model = defineModel<string>({ required: true })
const search = ref('')
const choices = ref<{ value: string; text: string }[]>([])
let asked = 0

async function look() {
  const mine = ++asked
  const found = await ask(api.GET('/api/v1/profiles', { params: { query: { search: search.value, limit: 50 } } }))
  if (mine !== asked) return
  const list = found.items.map((p) => ({ value: p.id, text: `${p.device} → ${p.gateway} (${p.person})` }))
  if (model.value && !list.some((p) => p.value === model.value)) {
    const kept = await ask(api.GET('/api/v1/profiles/{id}', { params: { path: { id: model.value } } }))
    list.unshift({ value: kept.id, text: `${kept.device} → ${kept.gateway}` })
  }
  choices.value = [{ value: '', text: props.none }, ...list]
}
onMounted(look)
let timer = 0
watch(search, () => {
  clearTimeout(timer)
  timer = window.setTimeout(look, 200)
})
</script>

<template>
  <div>
    <Field v-model="search" label="Search a device, a person or a gateway" />
    <Field v-model="model" kind="choice" :label="props.label" :choices="choices" />
  </div>
</template>
