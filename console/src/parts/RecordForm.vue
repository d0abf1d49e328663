<script setup lang="ts">
// The frame of a form: its fields, what went wrong or right, and the button that sends it. Fields
// in it find their errors and their help by themselves.
import { provide } from 'vue'
import Notice from './Notice.vue'
import { type FormState, formState } from './useForm'

const props = defineProps<{ form: FormState; button: string; quiet?: boolean }>()
defineEmits<{ save: [] }>()
provide(formState, props.form)
</script>

<template>
  <form novalidate @submit.prevent="$emit('save')">
    <slot />
    <div class="mt-3">
      <Notice :text="form.wrong.value" /><Notice :text="form.done.value" kind="done" />
    </div>
    <div class="d-flex flex-wrap gap-2 mt-3">
      <BButton
        class="alters"
        type="submit"
        :variant="quiet ? 'outline-secondary' : 'primary'"
        :disabled="form.busy.value"
        >{{ button }}</BButton
      >
      <slot name="more" />
    </div>
  </form>
</template>
