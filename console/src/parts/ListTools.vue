<script setup lang="ts">
// What a list can be set to: its columns, and searches that are kept under a name.
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { say } from '../words'
import { keepListView, listView, type ListView } from './listViews'
import Notice from './Notice.vue'

const props = defineProps<{ noun: string; columns: { key: string; text: string }[] }>()
const hidden = defineModel<string[]>('hidden', { required: true })
const route = useRoute()
const router = useRouter()
const filters = ref<ListView['filters']>([])
const name = ref('')
const wrong = ref('')

onMounted(async () => {
  const view = await listView(props.noun)
  hidden.value = view.hidden
  filters.value = view.filters
})
async function put() {
  wrong.value = ''
  try {
    await keepListView({ list: props.noun, hidden: hidden.value, filters: filters.value })
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
function toggle(key: string) {
  const shown = hidden.value.includes(key)
  hidden.value = shown ? hidden.value.filter((k) => k !== key) : [...hidden.value, key]
  void put()
}
const query = computed(() => {
  const kept = Object.entries(route.query).filter(([key]) => key !== 'page')
  return Object.fromEntries(kept) as Record<string, string>
})
function keep() {
  const one = { name: name.value.trim(), query: query.value }
  if (!one.name) return
  filters.value = [...filters.value.filter((v) => v.name !== one.name), one]
  name.value = ''
  void put()
}
function drop(one: ListView['filters'][number]) {
  filters.value = filters.value.filter((v) => v !== one)
  void put()
}
</script>

<template>
  <details class="tools">
    <summary class="btn btn-sm btn-outline-secondary">View</summary>
    <div class="panel">
      <Notice :text="wrong" />
      <fieldset class="mb-3">
        <legend class="fs-6">Columns</legend>
        <BFormCheckbox
          v-for="c in columns.slice(1)"
          :key="c.key"
          :model-value="!hidden.includes(c.key)"
          @update:model-value="toggle(c.key)"
          >{{ say(c.text) }}</BFormCheckbox
        >
      </fieldset>
      <h3 class="fs-6">Saved filters</h3>
      <p v-if="!filters.length" class="soft small mb-2">None saved yet.</p>
      <ul v-else class="plain-list mb-2">
        <li v-for="v in filters" :key="v.name" class="d-flex gap-2">
          <button type="button" class="linklike" @click="router.push({ query: v.query })">
            {{ v.name }}
          </button>
          <button
            type="button"
            class="linklike ms-auto"
            :aria-label="`Remove ${v.name}`"
            @click="drop(v)"
          >
            ×
          </button>
        </li>
      </ul>
      <form class="d-flex gap-2" @submit.prevent="keep">
        <BFormInput
          v-model="name"
          size="sm"
          aria-label="Name for this search and its filters"
          placeholder="Name"
        />
        <BButton size="sm" type="submit" variant="outline-secondary" :disabled="!name.trim()"
          >Save</BButton
        >
      </form>
    </div>
  </details>
</template>

<style scoped>
.tools {
  position: relative;
}
.tools summary {
  list-style: none;
}
.tools .panel {
  position: absolute;
  right: 0;
  z-index: 3;
  width: 16rem;
  margin-top: 0.3rem;
}
@media (max-width: 575px) {
  .tools .panel {
    position: static;
  }
}
</style>
