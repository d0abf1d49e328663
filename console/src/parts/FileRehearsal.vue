<script setup lang="ts">
// Has the service sign in with a dropped file, and shows the steps while they come.
import { computed, ref, useId } from 'vue'
import { api, ask, type Schemas, ServiceError } from '../api/client'
import { useSession } from '../api/session'
import Notice from './Notice.vue'
import RehearsalState from './RehearsalState.vue'
import RehearsalSteps from './RehearsalSteps.vue'
import { useFollowed } from './useFollowed'

const props = defineProps<{
  files: File[]
  file: string // the one with the connection
  connection: Schemas['CheckedConnection']
  release: string
}>()
const session = useSession()
const busy = ref(false)
const wrong = ref('')
const needs = ref<Record<string, boolean>>({}) // what has to be entered or confirmed, by pointer
const login = ref('')
const password = ref('')
const ours = ref(false)
const { one, lost, follow } = useFollowed<Schemas['Rehearsal']>(
  (id) => ask(api.GET('/api/v1/rehearsals/{id}', { params: { path: { id } } })),
  () => (busy.value = false),
)
const asks = computed(() => Object.keys(needs.value).length > 0)
const id = useId()

async function begin() {
  busy.value = true
  wrong.value = ''
  const body = new FormData()
  for (const f of props.files) body.append('file', f, f.name)
  if (login.value) body.append('login', login.value)
  if (password.value) body.append('password', password.value)
  const query = {
    file: props.file,
    connection: props.connection.name,
    for: props.release || undefined,
    again: needs.value['/again'] || undefined,
    off_record: ours.value || undefined,
  }
  try {
    const row = await ask(
      api.POST('/api/v1/file-rehearsals', {
        params: { query },
        body: body as never,
        bodySerializer: (b) => b,
      }),
    )
    needs.value = {}
    password.value = ''
    follow(row)
  } catch (e) {
    busy.value = false
    wrong.value = (e as Error).message
    if (!(e instanceof ServiceError)) return
    for (const at of ['/password', '/again', '/off_record']) {
      if (at in e.fields) {
        needs.value = { ...needs.value, [at]: true }
        wrong.value = e.fields[at] ?? wrong.value
      }
    }
  }
}
</script>

<template>
  <div class="my-2">
    <BButton
      class="alters"
      size="sm"
      variant="outline-secondary"
      :disabled="busy"
      :aria-label="`Rehearse ${connection.name}`"
      @click="begin"
      >Rehearse</BButton
    >
    <span class="soft small ms-2"
      >The service signs in to the gateway with this file, as the device would.</span
    >
    <Notice :text="wrong || lost" />
    <form v-if="asks" class="d-flex flex-wrap gap-3 align-items-end mt-2" @submit.prevent="begin">
      <template v-if="needs['/password']">
        <div>
          <label class="form-label" :for="`${id}-login`">Login, where the file has none</label>
          <BFormInput :id="`${id}-login`" v-model="login" autocomplete="off" />
        </div>
        <div>
          <label class="form-label" :for="`${id}-password`">Password; it is not stored</label>
          <BFormInput
            :id="`${id}-password`"
            v-model="password"
            type="password"
            autocomplete="off"
            required
          />
        </div>
      </template>
      <BFormCheckbox v-if="needs['/off_record'] && session.may('owner')" v-model="ours"
        >It is ours, or its owner agrees to the sign-in</BFormCheckbox
      >
      <BButton
        class="alters"
        type="submit"
        size="sm"
        variant="outline-secondary"
        :disabled="busy"
        >{{ needs['/again'] ? 'Sign in again' : 'Rehearse with it' }}</BButton
      >
    </form>
    <template v-if="one">
      <p class="mb-2 mt-2" role="status"><RehearsalState :state="one.state" /></p>
      <RehearsalSteps :rehearsal="one" />
    </template>
  </div>
</template>
