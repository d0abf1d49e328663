<script setup lang="ts">
// Asks for the password once more, and for a code where the person has a second factor.
import { computed, nextTick, ref, watch } from 'vue'
import { api, ask } from '../api/client'
import { asked } from '../api/confirm'
import { capable, passkeyAnswer } from '../api/passkeys'
import { useSession } from '../api/session'
import Field from './Field.vue'
import Notice from './Notice.vue'
import { useForm } from './useForm'
import { say } from '../words'

const session = useSession()
// Who signs in by the provider proves it there, in a window of its own.
const waiting = ref(false)
let told: BroadcastChannel | undefined
async function elsewhere() {
  const page = window.open('', '_blank')
  const well = await run(async () => {
    const body = { to: '/' }
    const { address } = await ask(api.POST('/api/v1/session/confirmation-entry', { body }))
    if (page) page.location.href = address
    else throw new Error(say('The browser has blocked the window: allow it for this page.'))
  }, '')
  if (!well) {
    page?.close()
    return
  }
  waiting.value = true
  told?.close()
  told = new BroadcastChannel('confirmed')
  told.onmessage = () => end(true)
}
const dialog = ref<HTMLDialogElement>()
const { draft, errors, wrong, busy, fill, run } = useForm({ password: '', code: '' })
watch(asked, async (question) => {
  if (!question) return
  fill({ password: '', code: '' })
  errors.value = {}
  wrong.value = ''
  await nextTick()
  dialog.value?.showModal()
})
function end(proven: boolean) {
  told?.close()
  waiting.value = false
  dialog.value?.close()
  asked.value?.done(proven)
}
const onlyPasskey = computed(() => !!session.operator?.passkeys && !session.operator.second_factor)
async function byPasskey() {
  const well = await run(async () => {
    const body = { passkey: await passkeyAnswer() }
    await ask(api.POST('/api/v1/session/confirmation', { body }))
  }, '')
  if (well) end(true)
}
async function prove() {
  const well = await run(
    () => ask(api.POST('/api/v1/session/confirmation', { body: { ...draft } })).then(() => {}),
    '',
  )
  if (well) end(true)
}
</script>

<template>
  <dialog
    v-if="asked"
    ref="dialog"
    class="panel ask confirm"
    aria-labelledby="confirm"
    @cancel.prevent="end(false)"
  >
    <form novalidate @submit.prevent="prove">
      <h2 id="confirm">Confirm that it is you</h2>
      <p class="soft">
        A session alone is not enough for this. You will not be asked again for five minutes.
      </p>
      <p v-if="session.operator?.provider">
        You sign in with {{ session.provider }}: confirm there, in a new window, that it is you.
      </p>
      <p v-if="waiting" role="status">Waiting for the other window…</p>
      <Field
        v-if="!session.operator?.provider && !onlyPasskey"
        v-model="draft.password"
        kind="secret"
        label="Your password"
        pointer="/password"
        required
      />
      <Field
        v-if="session.operator?.second_factor"
        v-model="draft.code"
        label="Code of your second factor"
        pointer="/code"
        required
      />
      <p v-if="onlyPasskey && !capable()">
        This browser cannot use passkeys: update it, or use another one.
      </p>
      <Notice :text="wrong" />
      <div class="d-flex flex-wrap gap-2 mt-3">
        <BButton
          v-if="session.operator?.provider"
          variant="primary"
          :disabled="busy"
          @click="elsewhere"
          >Open the window</BButton
        >
        <BButton v-else-if="!onlyPasskey" type="submit" variant="primary" :disabled="busy"
          >Confirm</BButton
        >
        <BButton
          v-if="session.operator?.passkeys && capable()"
          :variant="onlyPasskey ? 'primary' : 'outline-secondary'"
          :disabled="busy"
          @click="byPasskey"
          >Use a passkey</BButton
        >
        <BButton variant="outline-secondary" @click="end(false)">Cancel</BButton>
      </div>
    </form>
  </dialog>
</template>
