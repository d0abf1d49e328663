<script setup lang="ts">
// Parcels on their way: a board of the states that they go through, whole groups, and the list of
// all.
import { computed, onMounted, ref } from 'vue'
import { api, ask, type ListQuery, type Schemas } from '../api/client'
import GroupHandover from '../parts/GroupHandover.vue'
import HandoverMade from '../parts/HandoverMade.vue'
import ListTable from '../parts/ListTable.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import TimeText from '../parts/TimeText.vue'
import { isClosed, stateLooks } from '../parts/handovers'
import { useAddress } from '../parts/useAddress'

type Handover = Schemas['Handover']
const steps = [
  { state: 'made', title: 'Made', text: 'The link has not been sent' },
  { state: 'sent', title: 'Sent', text: 'The email was sent' },
  { state: 'opened', title: 'Opened', text: 'The passcode was entered' },
  { state: 'fetched', title: 'Fetched', text: 'Files were downloaded' },
  { state: 'connected', title: 'Connected', text: 'Connection seen' },
  { state: 'ended', title: 'Closed', text: 'Expired, used up, locked or recalled' },
]
const most = 6
const board = ref<Record<string, Handover[]>>({})
const sums = ref<Record<string, number>>({})
const wrong = ref('')
const changes = ref(0)
const made = ref<Schemas['NewHandover']>()
const ended = ['expired', 'used-up', 'locked', 'recalled']
const count = (state: string) =>
  state === 'ended' ? ended.reduce((n, s) => n + (sums.value[s] ?? 0), 0) : (sums.value[state] ?? 0)
const total = computed(() => Object.values(sums.value).reduce((a, b) => a + b, 0))
const condition = (state: string) => (state === 'ended' ? 'ended:true' : `state:${state}`)

async function look() {
  try {
    const counted = await ask(api.GET('/api/v1/handovers/sums'))
    sums.value = Object.fromEntries(counted.items.map((s) => [s.state, s.count]))
    await Promise.all(
      steps.map(async ({ state }) => {
        const query = { filter: [condition(state)], limit: most }
        board.value[state] = count(state)
          ? (await ask(api.GET('/api/v1/handovers', { params: { query } }))).items
          : []
      }),
    )
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
onMounted(look)

const which = useAddress('state')
const group = useAddress('group')
const filters = computed(() =>
  [
    which.value ? condition(which.value) : '',
    group.value.trim() ? `group:${group.value.trim()}` : '',
  ].filter(Boolean),
)
const choices = [
  { value: '', text: 'All' },
  ...steps.map((s) => ({ value: s.state, text: s.title })),
]
const columns = [
  { key: 'device', text: 'Device', sort: 'device' },
  { key: 'person', text: 'Person', sort: 'person' },
  { key: 'state', text: 'State' },
  { key: 'uses', text: 'Uses' },
  { key: 'expires', text: 'Expires', sort: 'expires' },
  { key: 'do', text: 'Actions' },
]
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/handovers', { params: { query }, signal }))
function showAll(state: string) {
  which.value = state
  document.getElementById('all')?.scrollIntoView()
  document.getElementById('state')?.focus()
}
async function act(work: () => Promise<unknown>) {
  wrong.value = ''
  try {
    await work()
    changes.value++
    await look()
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
const recall = (id: string) =>
  act(() => ask(api.POST('/api/v1/handovers/{id}/recall', { params: { path: { id } } })))
const reissue = (id: string) =>
  act(async () => {
    made.value = await ask(
      api.POST('/api/v1/handovers/{id}/reissue', { params: { path: { id } }, body: {} }),
    )
  })
</script>

<template>
  <PageHead title="Handovers" />
  <p class="soft">
    Parcels that are handed over to people. A single parcel is handed over on the page of its
    profile.
  </p>
  <Notice :text="wrong" />
  <p v-if="total === 0" class="panel">
    No handovers yet. Build a parcel on the
    <RouterLink to="/profiles">page of its profile</RouterLink> and hand it over there, or hand over
    to a group below.
  </p>
  <div v-else class="board mb-4">
    <section v-for="s in steps" :key="s.state" class="panel" :aria-labelledby="`board-${s.state}`">
      <h2 :id="`board-${s.state}`">
        {{ s.title }} <span class="soft">{{ count(s.state) }}</span>
      </h2>
      <p class="soft small">{{ s.text }}</p>
      <ul>
        <li v-for="h in board[s.state]" :key="h.id">
          <RouterLink :to="`/profiles/${h.profile_id}`">{{ h.device }}</RouterLink>
          <div class="small soft">
            {{ h.gateway }}, {{ h.person }}{{ s.state === 'ended' ? `, ${h.state}` : '' }}
          </div>
        </li>
      </ul>
      <button v-if="count(s.state) > most" type="button" class="linklike" @click="showAll(s.state)">
        Show all {{ count(s.state) }}
      </button>
    </section>
  </div>
  <HandoverMade
    v-if="made"
    :key="made.handover.id"
    class="mb-4"
    :made="made"
    @hide="made = undefined"
  />
  <GroupHandover @made="(changes++, look())" />
  <h2 id="all" class="mt-4">All</h2>
  <ListTable
    :key="changes"
    noun="handovers"
    :columns="columns"
    :load="load"
    first="created"
    :filters="filters"
    :changes="['handover']"
  >
    <template #filter>
      <div>
        <label class="form-label" for="state">State</label>
        <BFormSelect id="state" v-model="which" :options="choices" />
      </div>
      <div>
        <label class="form-label" for="in-group">Group</label>
        <BFormInput id="in-group" v-model="group" autocomplete="off" />
      </div>
    </template>
    <template #cell="{ row, column }">
      <template v-if="column === 'device'">
        <RouterLink :to="`/profiles/${row.profile_id}`">{{ row.device }}</RouterLink> to
        {{ row.gateway }}
      </template>
      <template v-else-if="column === 'person'">{{ row.person }}</template>
      <span v-else-if="column === 'state'" class="tag" :class="stateLooks[row.state] ?? 'plain'">{{
        row.state
      }}</span>
      <template v-else-if="column === 'uses'"
        >{{ row.uses }} of {{ row.max_uses
        }}{{ row.wrong ? `, ${row.wrong} wrong passcodes` : '' }}</template
      >
      <TimeText v-else-if="column === 'expires'" :at="row.expires" />
      <span v-else class="text-nowrap alters">
        <BButton size="sm" class="me-2" variant="outline-secondary" @click="reissue(row.id)"
          >Reissue<span class="visually-hidden"> for {{ row.device }}</span></BButton
        >
        <BButton
          v-if="!isClosed(row)"
          class="alters"
          size="sm"
          variant="outline-danger"
          @click="recall(row.id)"
          >Recall<span class="visually-hidden"> of {{ row.device }}</span></BButton
        >
      </span>
    </template>
    <template #empty>No handovers yet.</template>
  </ListTable>
</template>
