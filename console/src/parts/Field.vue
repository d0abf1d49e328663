<script setup lang="ts">
// One field of a form, with its error beside it. Lists are one value a line.
import { computed, useId } from 'vue'

const props = withDefaults(
  defineProps<{
    label: string
    kind?: 'text' | 'list' | 'choice' | 'check' | 'secret' | 'number' | 'note'
    help?: string
    errors?: Record<string, string>
    pointer?: string
    choices?: { value: string; text: string }[]
    required?: boolean
    placeholder?: string
  }>(),
  { kind: 'text', help: '', errors: () => ({}), pointer: '', choices: () => [], required: false, placeholder: '' },
)
const model = defineModel<string | string[] | boolean | number | null | undefined>()
const id = useId()

// An error of a member of a list belongs to the list.
const error = computed(() =>
  Object.entries(props.errors)
    .filter(
      ([at]) =>
        props.pointer && (at === props.pointer || (props.kind === 'list' && at.startsWith(props.pointer + '/'))),
    )
    .map(([, text]) => text)
    .join(' '),
)
const described = computed(
  () => [props.help ? `${id}-help` : '', error.value ? `${id}-error` : ''].filter(Boolean).join(' ') || undefined,
)
const text = computed({
  get: () => String(model.value ?? ''),
  set: (v: string) => {
    model.value = props.kind === 'number' ? (v.trim() === '' ? null : Number(v)) : v
  },
})
const lines = computed({
  get: () => (Array.isArray(model.value) ? model.value.join('\n') : ''),
  set: (v: string) => (model.value = v === '' ? [] : v.split('\n')),
})
const on = computed({ get: () => model.value === true, set: (v: boolean) => (model.value = v) })
function tidy() {
  if (Array.isArray(model.value)) model.value = model.value.filter((v) => v.trim() !== '')
}
</script>

<template>
  <div class="mb-3">
    <BFormCheckbox v-if="kind === 'check'" :id="id" v-model="on" :aria-describedby="described">{{
      label
    }}</BFormCheckbox>
    <template v-else>
      <label class="form-label" :for="id"
        >{{ label }}<span v-if="required" class="soft fw-normal"> (needed)</span></label
      >
      <BFormTextarea
        v-if="kind === 'list'"
        :id="id"
        v-model="lines"
        class="mono"
        rows="2"
        max-rows="8"
        spellcheck="false"
        :state="error ? false : null"
        :aria-describedby="described"
        :placeholder="placeholder"
        @blur="tidy"
      />
      <BFormTextarea
        v-else-if="kind === 'note'"
        :id="id"
        v-model="text"
        rows="2"
        :state="error ? false : null"
        :aria-describedby="described"
      />
      <BFormSelect
        v-else-if="kind === 'choice'"
        :id="id"
        v-model="text"
        :options="choices"
        :state="error ? false : null"
        :aria-describedby="described"
      />
      <BFormInput
        v-else
        :id="id"
        v-model="text"
        :type="kind === 'secret' ? 'password' : 'text'"
        :inputmode="kind === 'number' ? 'decimal' : undefined"
        :autocomplete="kind === 'secret' ? 'new-password' : 'off'"
        :state="error ? false : null"
        :required="required"
        :aria-describedby="described"
        :placeholder="placeholder"
        spellcheck="false"
      />
    </template>
    <div v-if="help" :id="`${id}-help`" class="form-text">{{ help }}</div>
    <div v-if="error" :id="`${id}-error`" class="invalid-feedback">{{ error }}</div>
  </div>
</template>
