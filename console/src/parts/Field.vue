<script setup lang="ts">
// One field of a form, with its error beside it. Lists are one value a line.
import { computed, inject, ref, useId, watch } from 'vue'
import { api, ask } from '../api/client'
import descriptions from '../api/fields.json'
import { formState } from './useForm'
import { say } from '../words'

const props = withDefaults(
  defineProps<{
    label: string
    kind?: 'text' | 'list' | 'choice' | 'check' | 'secret' | 'number' | 'note' | 'pem' | 'date'
    help?: string
    described?: boolean // its help is the description of the record's field
    errors?: Record<string, string>
    pointer?: string
    choices?: { value: string; text: string }[]
    required?: boolean
    placeholder?: string
    makes?: number // bits of a secret that can be made here
  }>(),
  {
    kind: 'text',
    help: '',
    described: false,
    errors: undefined,
    pointer: '',
    choices: () => [],
    required: false,
    placeholder: '',
    makes: 0,
  },
)
const model = defineModel<string | string[] | boolean | number | null | undefined>()
const id = useId()
const form = inject(formState, undefined)
const errors = computed(() => props.errors ?? form?.errors.value ?? {})
const help = computed(() => {
  if (!props.described) return say(props.help)
  const fields: Record<string, string> = (descriptions as Record<string, object>)[
    form?.noun ?? ''
  ] as never
  return (
    say(fields?.[props.pointer] ?? '') + (props.kind === 'list' ? ` ${say('One per line.')}` : '')
  )
})

// An error of a member of a list belongs to the list.
const error = computed(() =>
  Object.entries(errors.value)
    .filter(
      ([at]) =>
        props.pointer &&
        (at === props.pointer || (props.kind === 'list' && at.startsWith(props.pointer + '/'))),
    )
    .map(([, text]) => text)
    .join(' '),
)
const notes = computed(
  () =>
    [help.value ? `${id}-help` : '', error.value ? `${id}-error` : ''].filter(Boolean).join(' ') ||
    undefined,
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
// A secret that was made here is shown: somebody has to carry it to the gateway.
const shown = ref(false)
const wrong = ref('')
async function make() {
  try {
    text.value = (await ask(api.POST('/api/v1/secrets', { body: { bits: props.makes } }))).secret
    shown.value = true
    wrong.value = ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
watch(text, (v) => v === '' && (shown.value = false))
function tidy() {
  if (Array.isArray(model.value)) model.value = model.value.filter((v) => v.trim() !== '')
}
</script>

<template>
  <div class="mb-3">
    <BFormCheckbox v-if="kind === 'check'" :id="id" v-model="on" :aria-describedby="notes">{{
      say(label)
    }}</BFormCheckbox>
    <template v-else>
      <label class="form-label" :for="id"
        >{{ say(label) }}<span v-if="required" class="soft fw-normal"> (required)</span></label
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
        :aria-describedby="notes"
        :placeholder="placeholder"
        @blur="tidy"
      />
      <BFormTextarea
        v-else-if="kind === 'note' || kind === 'pem'"
        :id="id"
        v-model="text"
        :class="{ 'mono small': kind === 'pem' }"
        rows="2"
        :max-rows="kind === 'pem' ? 6 : 8"
        :spellcheck="kind === 'note'"
        :state="error ? false : null"
        :aria-describedby="notes"
      />
      <BFormSelect
        v-else-if="kind === 'choice'"
        :id="id"
        v-model="text"
        :options="choices"
        :state="error ? false : null"
        :aria-describedby="notes"
      />
      <BFormInput
        v-else
        :id="id"
        v-model="text"
        :type="kind === 'date' ? 'date' : kind === 'secret' && !shown ? 'password' : 'text'"
        :class="{ mono: shown }"
        :inputmode="kind === 'number' ? 'decimal' : undefined"
        :autocomplete="kind === 'secret' ? 'new-password' : 'off'"
        :state="error ? false : null"
        :required="required"
        :aria-describedby="notes"
        :placeholder="placeholder"
        spellcheck="false"
      />
    </template>
    <BButton
      v-if="makes"
      class="mt-1 me-2"
      type="button"
      size="sm"
      variant="outline-secondary"
      @click="make"
      >Generate</BButton
    >
    <span v-if="wrong" class="invalid-feedback">{{ wrong }}</span>
    <div v-if="help" :id="`${id}-help`" class="form-text">{{ help }}</div>
    <div v-if="error" :id="`${id}-error`" class="invalid-feedback">{{ error }}</div>
  </div>
</template>
