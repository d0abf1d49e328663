<script setup lang="ts">
// Chooses a record by a search; the one that is chosen stays among the choices. With `most`, a
// search is offered only where there are more than a list can show.
import { computed } from 'vue'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { type Choice, useChoices } from './useChoices'

const props = withDefaults(
  defineProps<{
    label: string
    searching: string // what the search looks in
    none: string // what stands for no choice
    find: (text: string) => Promise<{ list: Choice[]; total: number }>
    kept: (id: string) => Promise<Choice>
    most?: number
    plural?: string // of the records
    pointer?: string
    help?: string
    described?: boolean
    required?: boolean
  }>(),
  { most: 0, plural: '', pointer: '', help: '', described: false, required: false },
)
const model = defineModel<string>({ required: true })
const { search, total, wrong, choices } = useChoices(model, props.find, props.kept)
const shown = computed(() => [{ value: '', text: props.none }, ...choices.value])
</script>

<template>
  <div>
    <Field
      v-if="total > most"
      v-model="search"
      :label="searching"
      :help="most ? `${total} ${plural}; type part of a name` : ''"
    />
    <Field
      v-model="model"
      kind="choice"
      :label="label"
      :pointer="pointer"
      :help="help"
      :described="described"
      :choices="shown"
      :required="required"
    />
    <Notice :text="wrong" />
  </div>
</template>
