<script setup lang="ts">
// One protocol that a gateway offers, with all that a client must know.
import { computed, inject } from 'vue'
import Field from './Field.vue'
import { type Draft, type Offer, pointer } from './offers'
import { formState } from './useForm'

const props = defineProps<{ offer: Offer; folded: boolean }>()
const form = inject(formState, undefined)
const errors = computed(() => form?.errors.value ?? {})
const draft = defineModel<Draft>({ required: true })
const on = defineModel<boolean>('on', { required: true })
const at = (field: string) => pointer(props.offer.key, field)
const text = (value: string) => ({ value, text: value || 'none' })
</script>

<template>
  <section class="panel" :aria-labelledby="`offer-${offer.key}`">
    <h2 :id="`offer-${offer.key}`">{{ offer.text }}</h2>
    <Field v-model="on" kind="check" :label="`The gateway offers ${offer.text}`" />
    <details v-if="on" class="plain" :open="!folded">
      <summary>How it is offered</summary>
      <div class="mt-3">
        <template v-for="f in offer.fields" :key="f.key">
          <fieldset v-if="f.kind === 'several'" class="mb-3">
            <legend class="form-label fs-6">{{ f.label }}</legend>
            <BFormCheckboxGroup
              v-model="draft[f.key] as string[]"
              :options="f.choices"
              :name="`${offer.key}-${f.key}`"
            />
            <div v-if="errors[at(f.key)]" class="invalid-feedback">{{ errors[at(f.key)] }}</div>
          </fieldset>
          <Field
            v-else
            v-model="draft[f.key] as string"
            :kind="f.kind === 'remotes' ? 'list' : f.kind"
            :label="f.label"
            :pointer="at(f.key)"
            :makes="f.makes"
            :choices="f.choices?.map(text)"
            :described="f.described && !f.stored"
            :help="
              f.stored && draft[f.stored]
                ? 'A key is stored. Leave this empty to keep it.'
                : f.kind === 'secret' || f.stored
                  ? 'It is sealed on arrival, and not shown again.'
                  : f.help
            "
          />
        </template>
      </div>
    </details>
  </section>
</template>
