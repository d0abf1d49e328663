<script setup lang="ts">
// What an empty service leads through. A step that is done, or that somebody skips, is out of the
// way; all of them can be found again until the first parcel is handed over.
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import { say } from '../words'

const props = defineProps<{
  counts: Schemas['Counts']
  organisation: Schemas['Organisation']
}>()
const remembered = () => {
  try {
    return JSON.parse(localStorage.getItem('skipped') ?? '[]') as string[]
  } catch {
    return []
  }
}
const skipped = ref<string[]>(remembered())
function skip(key: string) {
  skipped.value = [...skipped.value, key]
  localStorage.setItem('skipped', JSON.stringify(skipped.value))
}
function again() {
  skipped.value = []
  localStorage.removeItem('skipped')
}
const steps = computed(() => {
  const c = props.counts
  return [
    {
      key: 'organisation',
      to: '/organisation',
      text: 'Name your organisation',
      why: 'Its name is on every card, and links begin with its public address.',
      done: props.organisation.name !== '' && (props.organisation.links ?? '') !== '',
    },
    {
      key: 'authority',
      to: '/authorities',
      text: 'Create or import a CA',
      why: 'For certificates of devices and gateways; connections by pre-shared key need none.',
      done: authorities.value > 0,
    },
    {
      key: 'gateway',
      to: '/gateways/new',
      text: 'Add a gateway',
      why: 'By hand, or from the configuration that its daemons run.',
      done: c.gateways > 0,
    },
    {
      key: 'people',
      to: '/imports',
      text: 'Import people',
      why: 'From a table or a directory, or add one person by hand.',
      done: c.people > 0,
    },
    {
      key: 'pattern',
      to: '/patterns/new',
      text: 'Add a pattern',
      why: 'It makes the profiles of a whole class of devices.',
      done: c.profiles > 0,
    },
    {
      key: 'rehearse',
      to: '/rehearsals',
      text: 'Rehearse',
      why: 'The service signs in with a parcel before a person does.',
      done: false,
    },
    {
      key: 'handover',
      to: '/handovers',
      text: 'Hand over',
      why: 'People get a link, and you see who has connected.',
      done: false,
    },
  ]
})
const left = computed(() => steps.value.filter((s) => !s.done && !skipped.value.includes(s.key)))
// Whoever has built a parcel knows the way.
const shown = computed(() => props.counts.parcels === 0)
const authorities = ref(0)
onMounted(async () => {
  if (!shown.value) return
  try {
    const query = { limit: 1 }
    authorities.value = (await ask(api.GET('/api/v1/authorities', { params: { query } }))).total
  } catch {
    authorities.value = 0 // the step is offered
  }
})
</script>

<template>
  <section v-if="shown" class="panel mb-3" aria-labelledby="first">
    <h2 id="first">First steps</h2>
    <ol v-if="left.length" class="mb-0">
      <li v-for="s in left" :key="s.key" class="mb-1">
        <RouterLink :to="s.to">{{ say(s.text) }}</RouterLink>.
        <span class="soft">{{ say(s.why) }}</span>
        <button
          type="button"
          class="alters link"
          :aria-label="`Skip: ${say(s.text)}`"
          @click="skip(s.key)"
        >
          Skip
        </button>
      </li>
    </ol>
    <p v-if="skipped.length" class="mt-2 mb-0">
      <button type="button" class="link" @click="again">Show skipped steps</button>
    </p>
  </section>
</template>

<style scoped>
.link {
  border: 0;
  background: none;
  padding: 0 0.3rem;
  color: inherit;
  text-decoration: underline;
}
</style>
