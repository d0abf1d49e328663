<script setup lang="ts">
// What can be done with the records that were chosen in a list, as a job.
import { computed, ref, watch } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import { choices } from '../api/records'
import { gateways } from '../nouns/gateways'
import Field from './Field.vue'
import JobProgress from './JobProgress.vue'
import RecordForm from './RecordForm.vue'
import { useForm } from './useForm'
import { useJob } from './useJob'
import { say } from '../words'

type Noun = 'profile' | 'device' | 'person'
type Action = Schemas['Selection']['action']
const props = defineProps<{
  noun: Noun
  count: number
  total: number // of all that the search and the filters fit
  more: boolean // there are more than total says
  all: boolean
  ids: string[]
  search: string
  filters: string[]
}>()
const emit = defineEmits<{ all: []; clear: []; done: [] }>()

const actions: { value: Action; text: string; of: Noun[] }[] = [
  { value: 'build', text: 'Build', of: ['profile', 'device', 'person'] },
  { value: 'hand-over', text: 'Hand over', of: ['profile', 'device', 'person'] },
  { value: 'rehearse', text: 'Rehearse', of: ['profile', 'device', 'person'] },
  { value: 'move', text: 'Move to another gateway', of: ['profile', 'device', 'person'] },
  { value: 'offboard', text: 'Offboard', of: ['device', 'person'] },
]
const own = computed(() => actions.filter((a) => a.of.includes(props.noun)))
const action = ref<Action>()
const form = useForm(
  { gateway_id: '', why: 'left', link: 'mail' as 'mail' | 'shown', days: 7 as number | null },
  'selection',
)
const targets = ref<{ value: string; text: string }[]>([])
watch(action, async (now) => {
  if (now === 'move' && !targets.value.length) targets.value = await choices(gateways)
})
const reasons = computed(() =>
  ['left', ...(props.noun === 'device' ? ['lost', 'retired'] : [])].map((value) => ({
    value,
    text: value,
  })),
)
const ways = [
  { value: 'mail', text: 'Sent by email' },
  { value: 'shown', text: 'Kept for one day on the page Handovers' },
]
const { job, lost, follow } = useJob(() => emit('done'))

async function begin(what: Action) {
  const { gateway_id, why, link, days } = form.draft
  const body: Schemas['Selection'] = { action: what, noun: props.noun }
  if (props.all) {
    body.search = props.search || undefined
    body.filter = props.filters.length ? props.filters : undefined
    if (!props.more) body.expected = props.total
  } else {
    body.ids = props.ids
  }
  if (what === 'move') body.gateway_id = gateway_id
  if (what === 'offboard') body.why = why as typeof body.why
  if (what === 'hand-over') Object.assign(body, { link, passcode: 'sheet', days: Number(days) })
  const well = await form.run(
    async () => follow(await ask(api.POST('/api/v1/selections', { body }))),
    '',
  )
  if (!well) return
  action.value = undefined
  emit('clear')
}
// What needs no answer begins at once.
function choose(what: Action) {
  if (what === 'build' || what === 'rehearse') void begin(what)
  else action.value = what
}
const title = computed(() => actions.find((a) => a.value === action.value)?.text ?? '')
</script>

<template>
  <section
    v-if="count > 0 || job"
    class="panel selection alters mb-3"
    aria-label="What to do with the selection"
  >
    <div v-if="count > 0" class="d-flex flex-wrap gap-2 align-items-center">
      <strong role="status">{{ count.toLocaleString() }} selected</strong>
      <button v-if="!all && total > count" type="button" class="linklike" @click="emit('all')">
        Select all {{ more ? '' : total.toLocaleString() }} that match
      </button>
      <button type="button" class="linklike" @click="emit('clear')">Clear</button>
      <span class="ms-auto" />
      <BButton
        v-for="a in own"
        :key="a.value"
        size="sm"
        :variant="action === a.value ? 'primary' : 'outline-secondary'"
        :disabled="form.busy.value"
        @click="choose(a.value)"
        >{{ say(a.text) }}</BButton
      >
    </div>
    <RecordForm
      v-if="count > 0 && (action || form.wrong.value)"
      class="mt-3"
      :form="form"
      :button="action ? `${say(title)}: ${count.toLocaleString()}` : say('Close')"
      @save="action && begin(action)"
    >
      <div class="columns">
        <Field
          v-if="action === 'move'"
          v-model="form.draft.gateway_id"
          kind="choice"
          label="To the gateway"
          pointer="/gateway_id"
          :choices="targets"
          help="What was set manually stays. Links to what was built before become outdated."
          required
        />
        <Field
          v-if="action === 'offboard'"
          v-model="form.draft.why"
          kind="choice"
          label="Reason"
          pointer="/why"
          :choices="reasons"
          help="Closes links, revokes certificates, and builds no more parcels."
        />
        <template v-if="action === 'hand-over'">
          <Field
            v-model="form.draft.link"
            kind="choice"
            label="Links"
            pointer="/link"
            :choices="ways"
          />
          <Field
            v-model="form.draft.days"
            kind="number"
            label="Days until they expire"
            pointer="/days"
          />
        </template>
      </div>
      <template #more>
        <BButton variant="outline-secondary" @click="action = undefined">Cancel</BButton>
      </template>
    </RecordForm>
    <JobProgress v-if="job" v-model="job" class="mt-2" of="records" :lost="lost" @undo="follow" />
  </section>
</template>

<style scoped>
.selection {
  position: sticky;
  top: 0.5rem;
  z-index: 2;
}
</style>
