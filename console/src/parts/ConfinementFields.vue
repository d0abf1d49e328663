<script setup lang="ts">
// What the changes of an issuer are confined to: groups of people, and gateways.
import { onMounted, ref } from 'vue'
import { api, ask } from '../api/client'
import type { Choice } from './useChoices'
import Field from './Field.vue'

const model = defineModel<{ groups: string[]; gateways: string[] }>({ required: true })
const props = defineProps<{ of: string }>()
const gateways = ref<Choice[]>([])
onMounted(async () => {
  const found = await ask(
    api.GET('/api/v1/gateways', { params: { query: { limit: 200, sort: 'name' } } }),
  )
  gateways.value = found.items.map((g) => ({ value: g.id, text: g.name }))
})
</script>

<template>
  <fieldset class="mt-3 mb-4">
    <legend class="fs-6 fw-semibold mb-1">Confine changes</legend>
    <p class="soft small">
      Everything else is only read, as an auditor does. With groups and gateways, profiles have to
      be within both. Empty means no limit.
    </p>
    <Field
      v-model="model.groups"
      kind="list"
      label="Groups of people"
      pointer="/confined/groups"
      help="People in one of these groups, their devices, accounts and profiles. One per line."
    />
    <fieldset v-if="gateways.length">
      <legend class="form-label fs-6">Gateways</legend>
      <BFormCheckboxGroup
        v-model="model.gateways"
        :options="gateways"
        :name="`confined-${props.of}`"
      />
    </fieldset>
  </fieldset>
</template>
