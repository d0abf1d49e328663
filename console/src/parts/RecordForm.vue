<script setup lang="ts">
// The frame of a form: its fields, what went wrong or right, and the button that sends it. Fields
// in it find their errors and their help by themselves; the first one with an error gets the focus,
// also where another tab is shown.
import { inject, nextTick, provide, ref, watch } from 'vue'
import Notice from './Notice.vue'
import { type FormState, formState } from './useForm'
import { tabs } from './useTabs'

const props = defineProps<{ form: FormState; button: string; quiet?: boolean }>()
defineEmits<{ save: [] }>()
provide(formState, props.form)
const around = inject(tabs, undefined)
const own = ref<HTMLFormElement>()
watch(props.form.errors, async (errors) => {
  if (!Object.keys(errors).length) return
  await nextTick()
  const field = own.value?.querySelector<HTMLElement>('.is-invalid')
  const tab = field?.closest<HTMLElement>('[role=tabpanel]')?.dataset.tab
  if (tab) around?.show(tab)
  field?.closest('details')?.setAttribute('open', '')
  await nextTick()
  field?.focus()
})
</script>

<template>
  <form ref="own" novalidate @submit.prevent="$emit('save')">
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
