<script setup lang="ts">
// What expires or changes in the next year, by month, with the switchover that prepares for it.
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import { kindText } from '../parts/switchovers'
import { day } from '../parts/times'

type Entry = Schemas['CalendarEntry']
const entries = ref<Entry[]>()
const wrong = ref('')
const feed = ref('')
async function look() {
  try {
    const query = { days: 365 }
    entries.value = (await ask(api.GET('/api/v1/calendar', { params: { query } }))).items
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
onMounted(look)
const months = computed(() => {
  const by = new Map<string, Entry[]>()
  for (const e of entries.value ?? []) {
    const name = new Date(e.at).toLocaleDateString([], { month: 'long', year: 'numeric' })
    by.set(name, [...(by.get(name) ?? []), e])
  }
  return [...by]
})
async function subscribe() {
  wrong.value = ''
  try {
    feed.value = (await ask(api.POST('/api/v1/calendar/feed'))).url
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
async function end() {
  wrong.value = ''
  try {
    await ask(api.DELETE('/api/v1/calendar/feed'))
    feed.value = ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
const paths: Record<string, string> = {
  authority: '/authorities/',
  gateway: '/gateways/',
  device: '/devices/',
  switchover: '/switchovers/',
}
const path = (e: Entry) => (e.id && paths[e.noun] ? paths[e.noun] + e.id : '')
const overdue = (e: Entry) => Date.parse(e.at) < Date.now()
const planned = (e: Entry) => ({
  path: '/switchovers/new',
  query: {
    kind: e.plan,
    until: e.at.slice(0, 10),
    ...(e.noun === 'gateway' ? { gateway_id: e.id } : {}),
    ...(e.platform ? { platform: e.platform } : {}),
    ...(e.noun === 'authority' ? { authority_id: e.id } : {}),
  },
})
</script>

<template>
  <PageHead title="Calendar" back="/switchovers" back-text="Switchovers" />
  <p class="soft">What expires or changes within a year.</p>
  <Notice :text="wrong" />
  <p v-if="entries?.length === 0" class="panel">
    Nothing expires or changes within a year. Certificates of gateways and devices, CAs, links,
    overrides and switchovers appear here.
  </p>
  <section v-for="[month, list] in months" :key="month" class="panel mb-3">
    <h2>{{ month }}</h2>
    <table class="grid-table stack">
      <caption class="visually-hidden">
        {{
          month
        }}
      </caption>
      <tbody>
        <tr v-for="(e, i) in list" :key="i">
          <td class="date">
            {{ day(e.at) }}
            <span v-if="overdue(e)" class="tag error">overdue</span>
          </td>
          <td>
            <RouterLink v-if="path(e)" :to="path(e)">{{ e.name }}</RouterLink>
            <RouterLink
              v-else-if="e.kind === 'release'"
              :to="{ path: '/devices', query: { platform: e.platform } }"
              >{{ e.name }}</RouterLink
            >
            <template v-else>{{ e.count }} {{ e.kind }}{{ e.count === 1 ? '' : 's' }}</template>
          </td>
          <td v-if="e.kind === 'release'">
            {{ e.what }} ({{ e.count === 1 ? '1 device' : `${e.count} devices` }})
          </td>
          <td v-else>{{ e.what || (e.count === 1 ? 'expires' : 'expire') }}</td>
          <td class="number">
            <RouterLink v-if="e.plan" class="alters" :to="planned(e)"
              >Plan: {{ kindText(e.plan).toLowerCase() }}</RouterLink
            >
          </td>
        </tr>
      </tbody>
    </table>
  </section>
  <section class="panel" aria-labelledby="feed">
    <h2 id="feed">Subscribe</h2>
    <p>
      Calendar programs can subscribe to this calendar by an address of your own (iCalendar).
      Whoever has it can read the calendar, and nothing else.
    </p>
    <p v-if="feed" class="mono">{{ feed }}</p>
    <div class="d-flex gap-2">
      <BButton size="sm" variant="outline-secondary" @click="subscribe">{{
        feed ? 'Replace the address' : 'Create the address'
      }}</BButton>
      <BButton size="sm" variant="outline-secondary" @click="end">End it</BButton>
    </div>
  </section>
</template>

<style scoped>
.date {
  white-space: nowrap;
}
</style>
