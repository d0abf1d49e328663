<script setup lang="ts">
// Chooses a person. Where there are more than a list can show, a search narrows it; the
// person who is chosen stays in it.
import { onMounted, ref, watch } from 'vue'
import { api, ask } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'

const props = defineProps<{ errors: Record<string, string>; pointer: string }>()
const model = defineModel<string>({ required: true })
const most = 50
const search = ref('')
const total = ref(0)
const wrong = ref('')
const choices = ref<{ value: string; text: string }[]>([])
let asked = 0

async function look() {
  const mine = ++asked
  try {
    const found = await ask(api.GET('/api/v1/people', { params: { query: { search: search.value, limit: most } } }))
    const list = found.items.map((p) => ({ value: p.id, text: p.mail ? `${p.name} (${p.mail})` : p.name }))
    if (model.value && !list.some((p) => p.value === model.value)) {
      const kept = await ask(api.GET('/api/v1/people/{id}', { params: { path: { id: model.value } } }))
      list.unshift({ value: kept.id, text: kept.name })
    }
    if (mine !== asked) return
    choices.value = [{ value: '', text: list.length ? 'Choose…' : 'Nobody fits the search' }, ...list]
    if (!search.value) total.value = found.total
    wrong.value = ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
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
    <Field
      v-if="total > most"
      v-model="search"
      label="Search a person"
      :help="`${total} people; type a part of a name or mail address`"
    />
    <Field
      v-model="model"
      kind="choice"
      label="Person"
      :pointer="props.pointer"
      :errors="props.errors"
      :choices="choices"
      required
    />
    <Notice :text="wrong" />
  </div>
</template>
