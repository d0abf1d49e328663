<script setup lang="ts">
// Is anything broken now, what needs somebody, how far the switchovers are, what expires next.
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useChanges } from '../api/live'
import { count, say } from '../words'
import { api, ask, type Schemas } from '../api/client'
import FirstSteps from '../parts/FirstSteps.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import ProgressPlot from '../parts/ProgressPlot.vue'
import { stateTag, stateText } from '../parts/probes'
import { kindText, stateTags } from '../parts/switchovers'
import TallyTags from '../parts/TallyTags.vue'
import { day } from '../parts/times'

const o = ref<Schemas['Overview']>()
const switchovers = ref<Schemas['SwitchoverRow'][]>([])
const coming = ref<Schemas['CalendarEntry'][]>([])
const wrong = ref('')
const unprobed = computed(() => o.value?.answers.unprobed ?? 0)
const answers = (state: string) => o.value?.answers[state] ?? 0

let timer = 0
onBeforeUnmount(() => clearTimeout(timer))
async function look() {
  clearTimeout(timer)
  try {
    o.value = await ask(api.GET('/api/v1/overview'))
    wrong.value = ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
  if (wrong.value || (o.value && o.value.counts.due > 0))
    timer = window.setTimeout(look, wrong.value ? 5000 : 1000)
}
useChanges(['gateway', 'profile', 'probe', 'rehearsal', 'switchover'], () => void look())
onMounted(async () => {
  await look()
  if (!o.value?.counts.gateways) return
  try {
    const query = { filter: ['active:true'], limit: 5 }
    const [running, calendar] = await Promise.all([
      ask(api.GET('/api/v1/switchovers', { params: { query } })),
      ask(api.GET('/api/v1/calendar', { params: { query: { days: 90 } } })),
    ])
    switchovers.value = running.items
    coming.value = calendar.items.filter((e) => e.kind !== 'link')
  } catch (e) {
    wrong.value = (e as Error).message
  }
})

interface Light {
  text: string
  detail: string
  state: 'fine' | 'warning' | 'error'
  to: string
}
const lights = computed<Light[]>(() => {
  if (!o.value) return []
  const silent = answers('no-response') + answers('unresolved')
  const differs = answers('differs')
  const failing = o.value.failing
  const away = o.value.tokens_away
  return [
    ...(away.length
      ? [
          {
            text: 'Tokens',
            detail: say('{0} is not available', away.join(', ')),
            state: 'error' as const,
            to: '/authorities',
          },
        ]
      : []),
    {
      text: 'Gateways',
      detail: silent
        ? count(silent, 'does not respond', 'do not respond')
        : differs
          ? count(differs, 'differs from its record', 'differ from their records')
          : unprobed.value === o.value.counts.gateways
            ? 'not probed yet'
            : unprobed.value
              ? say('{0} not probed yet', unprobed.value)
              : 'all respond as on record',
      state: silent ? 'error' : differs || unprobed.value ? 'warning' : 'fine',
      to: '/gateways',
    },
    {
      text: 'Rehearsals',
      detail: failing ? count(failing, 'fails', 'fail') : 'none fails',
      state: failing ? 'error' : 'fine',
      to: '/rehearsals?state=failed',
    },
    {
      text: 'Reports',
      detail: o.value.reports
        ? count(o.value.reports, 'person reports a problem', 'people report problems')
        : 'nobody reports a problem',
      state: o.value.reports ? 'warning' : 'fine',
      to: '/explain',
    },
    {
      text: 'Profiles',
      detail: o.value.counts.blocked
        ? say('{0} cannot be built', o.value.counts.blocked)
        : 'all can be built',
      state: o.value.counts.blocked ? 'error' : 'fine',
      to: '/profiles?severity=error',
    },
  ]
})

interface Task {
  text: string
  next: string
  to: string
}
const tasks = computed<Task[]>(() => {
  if (!o.value) return []
  const list: Task[] = []
  const add = (n: number, text: string, next: string, to: string) => {
    if (n > 0) list.push({ text, next, to })
  }
  const soon = coming.value.filter((e) => e.plan && Date.parse(e.at) < Date.now() + 30 * 864e5)
  for (const s of switchovers.value.filter((w) => w.state === 'paused'))
    add(1, say('{0} is paused', s.name), 'Review', `/switchovers/${s.id}`)
  add(
    o.value.reports,
    count(o.value.reports, 'report is open', 'reports are open'),
    'Answer',
    '/explain',
  )
  add(
    o.value.counts.blocked,
    count(o.value.counts.blocked, 'profile cannot be built', 'profiles cannot be built'),
    'Fix',
    '/findings',
  )
  add(
    soon.length,
    count(soon.length, 'certificate expires within 30 days', 'certificates expire within 30 days'),
    'Plan',
    '/calendar',
  )
  add(
    unprobed.value,
    count(unprobed.value, 'gateway is not probed yet', 'gateways are not probed yet'),
    'Probe',
    '/gateways',
  )
  add(
    o.value.counts.warned,
    count(o.value.counts.warned, 'profile has a warning', 'profiles have warnings'),
    'Review',
    '/findings',
  )
  return list
})
const trend = [
  { key: 'made', text: 'Links made', colour: '#1864ab' },
  { key: 'fetched', text: 'Fetched', colour: '#5f3dc4' },
  { key: 'connected', text: 'Connected', colour: '#2b8a3e' },
]
const findingLines = [
  { key: 'errors', text: 'Errors', colour: '#c92a2a' },
  { key: 'warnings', text: 'Warnings', colour: '#b35c00' },
]
const answerLines = [
  { key: 'longest', text: 'Longest', colour: '#b35c00' },
  { key: 'mean', text: 'Mean', colour: '#1864ab' },
]
const share = (s: Schemas['SwitchoverRow']) =>
  s.touched ? Math.round((100 * s.moved) / s.touched) : 0
</script>

<template>
  <PageHead :title="o ? o.organisation.name : 'Overview'">
    <nav v-if="o" class="counts soft" aria-label="Records">
      <RouterLink to="/gateways">{{ count(o.counts.gateways, 'gateway', 'gateways') }}</RouterLink>
      <RouterLink to="/people">{{ count(o.counts.people, 'person', 'people') }}</RouterLink>
      <RouterLink to="/devices">{{ count(o.counts.devices, 'device', 'devices') }}</RouterLink>
      <RouterLink to="/profiles">{{ count(o.counts.profiles, 'profile', 'profiles') }}</RouterLink>
      <span>{{ count(o.counts.parcels, 'parcel built', 'parcels built') }}</span>
      <span v-if="o.counts.due">{{ count(o.counts.due, 'check', 'checks') }} pending</span>
    </nav>
  </PageHead>
  <Notice :text="wrong" />
  <template v-if="o">
    <FirstSteps :counts="o.counts" :organisation="o.organisation" />
    <template v-if="o.counts.gateways > 0">
      <section class="lights mb-3" aria-label="State now">
        <RouterLink v-for="l in lights" :key="l.text" class="panel" :class="l.state" :to="l.to"
          ><strong>{{ say(l.text) }}</strong
          ><span>{{ say(l.detail) }}</span></RouterLink
        >
      </section>
      <div class="columns">
        <section class="panel" aria-labelledby="needs">
          <h2 id="needs">Needs attention</h2>
          <p v-if="tasks.length === 0" class="mb-0">Nothing.</p>
          <ul v-else class="plain-list">
            <li v-for="t in tasks" :key="t.text" class="task">
              <span>{{ t.text }}</span><RouterLink
                :to="t.to"
                :aria-label="`${say(t.next)}: ${t.text}`"
                >{{ say(t.next) }}</RouterLink
              >
            </li>
          </ul>
        </section>
        <section class="panel" aria-labelledby="under-way">
          <h2 id="under-way">Switchovers under way</h2>
          <p v-if="switchovers.length === 0" class="mb-0">
            None. <RouterLink class="alters" to="/switchovers/new">Plan one</RouterLink>
          </p>
          <div v-for="s in switchovers" :key="s.id" class="mb-2">
            <RouterLink :to="`/switchovers/${s.id}`">{{ s.name }}</RouterLink>
            <span class="tag ms-2" :class="stateTags[s.state]">{{ say(s.state) }}</span>
            <span class="soft ms-2">{{ say(kindText(s.kind)) }}</span>
            <BProgress
              class="my-1"
              :value="share(s)"
              :max="100"
              :aria-label="`${s.name}: ${share(s)} % of the devices have moved`"
            />
            <span class="soft small"
              >{{ s.moved }} of {{ s.touched }} devices, wave {{ s.begun }} of
              {{ Math.max(1, s.waves?.length ?? 0)
              }}<template v-if="s.cut_off">, old value until {{ day(s.cut_off) }}</template></span
            >
          </div>
          <h3 class="mt-3">Expires next</h3>
          <p v-if="coming.length === 0" class="mb-0">Nothing within 90 days.</p>
          <ul v-else class="plain-list">
            <li v-for="(e, i) in coming.slice(0, 4)" :key="i" class="task">
              <span
                >{{ day(e.at) }}
                {{
                  e.name
                    ? `${e.name}: ${e.what}`
                    : count(e.count, `${e.kind} expires`, `${e.kind}s expire`)
                }}</span
              >
            </li>
          </ul>
          <RouterLink to="/calendar">Calendar</RouterLink>
        </section>
      </div>
      <div class="trends mt-3">
        <section v-if="o.days.length > 1" class="panel" aria-labelledby="trend">
          <h2 id="trend">Handovers</h2>
          <ProgressPlot
            :days="o.days"
            :lines="trend"
            of="links"
            label="Links made, fetched and connected by day; the page Handovers has their list"
          />
        </section>
        <section v-if="o.finding_days.length > 0" class="panel" aria-labelledby="found">
          <h2 id="found">Findings</h2>
          <ProgressPlot
            :days="o.finding_days"
            :lines="findingLines"
            level
            of="findings"
            label="Errors and warnings by day; the page Findings has their list"
          />
        </section>
        <section v-if="o.answer_days.length > 1" class="panel" aria-labelledby="answered">
          <h2 id="answered">Response times of gateways</h2>
          <ProgressPlot
            :days="o.answer_days"
            :lines="answerLines"
            level
            fraction
            of="ms"
            label="Mean and longest response time by day; the pages of gateways have each of them"
          />
        </section>
      </div>
      <div class="columns mt-3">
        <section class="panel" aria-labelledby="worst">
          <h2 id="worst">Profiles with the most findings</h2>
          <p v-if="o.worst.length === 0" class="mb-0">No profile has an error or a warning.</p>
          <table v-else class="grid-table">
            <thead class="visually-hidden">
              <tr>
                <th scope="col">Profile</th>
                <th scope="col">Findings</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="p in o.worst" :key="p.id">
                <td>
                  <RouterLink :to="`/profiles/${p.id}`"
                    >{{ p.device }} → {{ p.gateway }}</RouterLink
                  >
                  <div class="soft small">{{ p.person }}</div>
                </td>
                <td><TallyTags :tally="p.tally" :checked="p.checked" /></td>
              </tr>
            </tbody>
          </table>
        </section>
        <section class="panel" aria-labelledby="rules">
          <h2 id="rules">Findings by rule</h2>
          <p v-if="o.rules.length === 0" class="mb-0">No findings.</p>
          <table v-else class="grid-table">
            <thead class="visually-hidden">
              <tr>
                <th scope="col">Rule</th>
                <th scope="col">Profiles</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="r in o.rules.slice(0, 10)" :key="r.rule">
                <td>
                  <span class="tag me-2" :class="r.severity">{{ r.severity }}</span>
                  <RouterLink :to="`/findings?rule=${r.rule}`">{{ say(r.title) }}</RouterLink>
                </td>
                <td class="number">{{ r.profiles }}</td>
              </tr>
            </tbody>
          </table>
          <h3 class="mt-3">Probe results</h3>
          <ul class="gateways mb-0">
            <li v-for="p in o.probes" :key="p.id">
              <RouterLink :to="`/gateways/${p.gateway_id}`">{{ p.gateway }}</RouterLink>
              <span class="tag ms-2" :class="stateTag[p.state]">{{ stateText[p.state] }}</span>
            </li>
            <li v-if="unprobed">
              <span class="soft">{{ unprobed }} not probed yet: </span
              ><RouterLink to="/gateways">probe all</RouterLink>
            </li>
          </ul>
        </section>
      </div>
    </template>
  </template>
</template>

<style scoped>
.trends {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(18rem, 100%), 1fr));
  gap: 1rem;
}
.counts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem 1rem;
}
.lights {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(11rem, 100%), 1fr));
  gap: 0.8rem;
}
.lights .panel {
  display: flex;
  flex-direction: column;
  color: inherit;
  text-decoration: none;
  border-left: 6px solid var(--wi-fine);
  padding: 0.7rem 1rem;
}
.lights .panel:hover span {
  text-decoration: underline;
}
.lights .warning {
  border-left-color: var(--wi-warning);
}
.lights .error {
  border-left-color: var(--wi-error);
}
.task {
  display: flex;
  justify-content: space-between;
  gap: 1rem;
  padding: 0.3rem 0;
  border-top: 1px solid var(--wi-line);
}
.task:first-child {
  border-top: 0;
}
.gateways {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 2rem;
  padding: 0;
  list-style: none;
}
</style>
