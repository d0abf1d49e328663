<script setup lang="ts">
// Rehearsals of a profile: signing in to the gateway with the newest parcel before it is handed
// over.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas, ServiceError } from '../api/client'
import Notice from './Notice.vue'
import RehearsalState from './RehearsalState.vue'
import RehearsalSteps from './RehearsalSteps.vue'
import SampleButton from './SampleButton.vue'
import { useFollowed } from './useFollowed'
import { exact } from './times'
import { told } from '../told'

const props = defineProps<{ profile: string }>()
const emit = defineEmits<{ changed: [] }>()
const earlier = ref<Schemas['Rehearsal'][]>([])
const wrong = ref('')
const busy = ref(false)
const again = ref(false) // the gateway rejected the login the last time
const asked = ref(false) // neither the parcel nor the account has a password
const password = ref('')
const { one, lost, follow } = useFollowed<Schemas['Rehearsal']>(
  (id) => ask(api.GET('/api/v1/rehearsals/{id}', { params: { path: { id } } })),
  () => {
    busy.value = false
    void list()
    emit('changed')
  },
)

async function list() {
  const query = { filter: [`profile_id:${props.profile}`, 'parcel:true'], limit: 5 }
  earlier.value = (await ask(api.GET('/api/v1/rehearsals', { params: { query } }))).items
  if (!one.value && earlier.value[0]) {
    busy.value = earlier.value[0].state === 'running'
    follow(earlier.value[0])
  }
}
onMounted(list)

async function begin(confirmed: boolean) {
  busy.value = true
  wrong.value = ''
  try {
    const begun = await ask(
      api.POST('/api/v1/profiles/{id}/rehearsals', {
        params: { path: { id: props.profile } },
        body: { again: confirmed, password: password.value || undefined },
      }),
    )
    again.value = asked.value = false
    password.value = ''
    follow(begun)
  } catch (e) {
    busy.value = false
    wrong.value = (e as Error).message
    if (e instanceof ServiceError) {
      again.value = '/again' in e.fields
      asked.value = '/password' in e.fields
    }
  }
}
</script>

<template>
  <section class="panel mb-4" aria-labelledby="rehearsals">
    <div class="d-flex flex-wrap gap-3 align-items-center mb-2">
      <h2 id="rehearsals" class="mb-0">Rehearsal</h2>
      <BButton class="alters" size="sm" variant="primary" :disabled="busy" @click="begin(false)"
        >Rehearse</BButton
      >
      <SampleButton :id="profile" noun="profile" />
      <span class="soft"
        >The service signs in to the gateway with the newest parcel, as the device would. A device
        that is connected with it may be disconnected.</span
      >
    </div>
    <Notice :text="wrong || lost" />
    <form
      v-if="asked || again"
      class="d-flex flex-wrap gap-3 align-items-end mb-3"
      @submit.prevent="begin(again)"
    >
      <div v-if="asked">
        <label class="form-label" for="rehearsal-password">Password; it is not stored</label>
        <BFormInput
          id="rehearsal-password"
          v-model="password"
          type="password"
          autocomplete="off"
          required
        />
      </div>
      <BButton class="alters" type="submit" variant="outline-secondary" :disabled="busy">{{
        again ? 'Sign in again' : 'Rehearse with it'
      }}</BButton>
    </form>
    <p v-if="!one" class="mb-0 soft">Not rehearsed yet.</p>
    <template v-else>
      <p class="mb-2" role="status">
        {{ exact(one.result.at) }} by {{ one.operator }}:
        <RehearsalState :state="one.state" />
      </p>
      <RehearsalSteps :rehearsal="one" />
      <details v-if="earlier.length > 1" class="mt-3">
        <summary>Earlier rehearsals</summary>
        <ul class="mb-0 mt-2">
          <li v-for="r in earlier.slice(1)" :key="r.id">
            {{ exact(r.result.at) }}: {{ r.state
            }}{{ r.result.cause ? `, ${told(r.result.cause)}` : '' }}
          </li>
        </ul>
      </details>
    </template>
  </section>
</template>
