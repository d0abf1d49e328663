<script setup lang="ts">
// The way of a profile from its plan to a device that was seen connected, with what blocks the next
// step.
import { computed, inject, onMounted, ref, watch } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import { tabs } from './useTabs'
import { count, say } from '../words'
import { told } from '../told'

const props = defineProps<{ planned: Schemas['Planned'] }>()
const { show } = inject(tabs)!
const parcel = ref<Schemas['Parcel']>()
const rehearsal = ref<Schemas['Rehearsal']>()
const handover = ref<Schemas['Handover']>()
const known = ref(false)

async function look() {
  const path = { id: props.planned.profile.id }
  const filter = [`profile_id:${path.id}`]
  try {
    const [parcels, rehearsals, handovers] = await Promise.all([
      ask(api.GET('/api/v1/profiles/{id}/parcels', { params: { path } })),
      ask(api.GET('/api/v1/rehearsals', { params: { query: { filter, limit: 1 } } })),
      ask(api.GET('/api/v1/handovers', { params: { query: { filter, limit: 1 } } })),
    ])
    parcel.value = parcels.items[0]
    rehearsal.value = rehearsals.items[0]
    handover.value = handovers.items[0]
    known.value = true
  } catch {
    known.value = false // the parts of the page say what is wrong
  }
}
onMounted(look)
watch(() => props.planned, look)

const fresh = computed(() => !!parcel.value && !parcel.value.outdated)
const steps = computed(() => {
  const errors = props.planned.tally.errors
  const of = handover.value
  const same = !!of && of.parcel_id === parcel.value?.id
  const tried = rehearsal.value?.parcel_id === parcel.value?.id ? rehearsal.value : undefined
  return [
    { text: 'Planned', tab: 'plan', done: true, why: '' },
    {
      text: 'Checked',
      tab: 'findings',
      done: errors === 0,
      why: count(errors, 'error prevents the build', 'errors prevent the build'),
    },
    {
      text: 'Built',
      tab: 'files',
      done: fresh.value,
      why: parcel.value ? 'the parcel is out of date: build it again' : 'build the parcel',
    },
    {
      text: 'Rehearsed',
      tab: 'rehearsal',
      done: tried?.state === 'passed',
      optional: true,
      why:
        tried?.state === 'failed'
          ? say('the rehearsal failed: {0}', told(tried.result.cause) || say('see below'))
          : 'rehearse the parcel, or hand it over without',
    },
    { text: 'Handed over', tab: 'handover', done: same, why: 'hand the parcel over' },
    {
      text: 'Seen connected',
      tab: 'handover',
      done: same && !!of?.connected,
      why: of?.fetched ? 'no connection was seen yet' : 'its files were not fetched yet',
    },
  ]
})
// What may be left out is not next once a later step is done.
const next = computed(() => {
  const list = steps.value
  return list.find((s, i) => !s.done && !(s.optional && list.slice(i).some((l) => l.done)))
})
</script>

<template>
  <section v-if="known" class="way mb-3" aria-label="How far it has come">
    <ol>
      <li
        v-for="s in steps"
        :key="s.text"
        :class="{ done: s.done, next: s === next }"
        :aria-current="s === next ? 'step' : undefined"
      >
        <span aria-hidden="true" class="mark">{{ s.done ? '✓' : '' }}</span>{{ say(s.text)
        }}<span class="visually-hidden">{{ s.done ? ', done' : ', to come' }}</span>
      </li>
    </ol>
    <p v-if="next" class="soft small mb-0">
      Next:
      <button type="button" class="linklike" @click="show(next.tab)">{{ say(next.why) }}</button>.
    </p>
  </section>
</template>

<style scoped>
ol {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 0;
  list-style: none;
  padding: 0;
  margin: 0 0 0.3rem;
}
li {
  display: flex;
  align-items: center;
  gap: 0.4rem;
  color: var(--wi-soft);
}
li:not(:last-child)::after {
  content: '';
  width: 1.4rem;
  border-top: 2px solid var(--wi-line);
  margin: 0 0.5rem 0 0.1rem;
}
.mark {
  display: inline-grid;
  place-items: center;
  width: 1.25rem;
  height: 1.25rem;
  border: 2px solid var(--wi-line);
  border-radius: 50%;
  font-size: 0.8rem;
}
.done .mark {
  background: var(--wi-fine);
  border-color: var(--wi-fine);
  color: var(--wi-card);
}
.done {
  color: inherit;
}
.next {
  font-weight: 600;
  color: inherit;
}
</style>
