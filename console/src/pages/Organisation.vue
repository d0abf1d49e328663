<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, ask } from '../api/client'
import Field from '../parts/Field.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import { useForm } from '../parts/useForm'

const { draft, errors, wrong, done, busy, fill, run } = useForm({ name: '', domain: '' })
const loaded = ref(false)

onMounted(() =>
  run(async () => {
    const { name, domain } = await ask(api.GET('/api/v1/organisation'))
    fill({ name, domain })
    loaded.value = true
  }, ''),
)
async function save() {
  await run(async () => {
    const { name, domain } = await ask(api.PUT('/api/v1/organisation', { body: { ...draft, version: 0 } }))
    fill({ name, domain })
  })
}
</script>

<template>
  <PageHead title="Organisation" />
  <Notice v-if="!loaded" :text="wrong" />
  <form v-if="loaded" class="panel" style="max-width: 34rem" novalidate @submit.prevent="save">
    <Field
      v-model="draft.name"
      label="Name"
      pointer="/name"
      :errors="errors"
      required
      help="Stands in profiles and on cards."
    />
    <Field
      v-model="draft.domain"
      label="Domain"
      pointer="/domain"
      :errors="errors"
      required
      help="Reversed, it begins the identifiers in Apple profiles. A change makes devices take rebuilt profiles for new ones."
    />
    <Notice :text="wrong" /><Notice :text="done" kind="done" />
    <BButton type="submit" variant="primary" class="mt-2" :disabled="busy">Save</BButton>
  </form>
</template>
