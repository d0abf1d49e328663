<script setup lang="ts">
// Takes a file of certificates or keys, of any shape, with its passphrase.
import { ref, useId } from 'vue'
import { encoded, type Material } from './files'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { useForm } from './useForm'

const props = defineProps<{
  button: string
  help?: string
  keyed?: boolean // a key may come along
  named?: string // label of a name that goes along
  send: (m: Material, name: string) => Promise<void>
  said?: string
}>()
const id = useId()
const file = ref<File>()
const key = ref<File>()
const input = ref<HTMLInputElement>()
const { draft, errors, wrong, done, busy, run } = useForm({ passphrase: '', name: '' })

const first = (e: Event) => (e.target as HTMLInputElement).files?.[0]
async function go() {
  if (!file.value) {
    wrong.value = 'Choose a file first.'
    input.value?.focus()
    return
  }
  await run(async () => {
    const m: Material = { file: await encoded(file.value!) }
    if (key.value) m.key = await encoded(key.value)
    if (draft.passphrase) m.passphrase = draft.passphrase
    await props.send(m, draft.name)
    draft.passphrase = ''
    draft.name = ''
  }, props.said ?? 'Imported.')
}
</script>

<template>
  <form novalidate @submit.prevent="go">
    <div class="columns">
      <div class="mb-3">
        <label class="form-label" :for="id">File</label>
        <input
          :id="id"
          ref="input"
          type="file"
          class="form-control"
          :aria-describedby="`${id}-help`"
          @change="file = first($event)"
        />
        <div :id="`${id}-help`" class="form-text">
          {{ help ?? 'PEM, DER, PKCS #7 or PKCS #12.' }}
        </div>
        <div v-if="errors['/file'] || errors['/certificate']" class="invalid-feedback d-block">
          {{ errors['/file'] ?? errors['/certificate'] }}
        </div>
      </div>
      <div v-if="keyed" class="mb-3">
        <label class="form-label" :for="`${id}-key`">Its key, if separate</label>
        <input :id="`${id}-key`" type="file" class="form-control" @change="key = first($event)" />
        <div v-if="errors['/key']" class="invalid-feedback d-block">{{ errors['/key'] }}</div>
      </div>
      <Field
        v-if="keyed"
        v-model="draft.passphrase"
        kind="secret"
        label="Passphrase of a PKCS #12 file"
        pointer="/passphrase"
      />
      <Field v-if="named" v-model="draft.name" :label="named" pointer="/name" />
    </div>
    <Notice :text="wrong" /><Notice :text="done" kind="done" />
    <BButton class="alters" type="submit" size="sm" variant="outline-secondary" :disabled="busy">{{
      button
    }}</BButton>
  </form>
</template>
