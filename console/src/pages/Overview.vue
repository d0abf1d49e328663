<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import { stateTag, stateText } from '../parts/probes'
import TallyTags from '../parts/TallyTags.vue'

const o = ref<Schemas['Overview']>()
const probes = computed(() => o.value?.probes ?? [])
const more = computed(() =>
  o.value ? o.value.counts.gateways - (o.value.answers.unprobed ?? 0) - probes.value.length : 0,
)
const unprobed = computed(() => o.value?.answers.unprobed ?? 0)
const wrong = ref('')

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
onMounted(look)
</script>

<template>
  <PageHead :title="o ? o.organisation.name : 'Overview'" />
  <Notice :text="wrong" />
  <template v-if="o">
    <section class="sums mb-4" aria-label="Records">
      <RouterLink class="panel" to="/gateways"
        ><strong>{{ o.counts.gateways }}</strong
        >gateways</RouterLink
      >
      <RouterLink class="panel" to="/people"
        ><strong>{{ o.counts.people }}</strong
        >people</RouterLink
      >
      <RouterLink class="panel" to="/devices"
        ><strong>{{ o.counts.devices }}</strong
        >devices</RouterLink
      >
      <RouterLink class="panel" to="/profiles"
        ><strong>{{ o.counts.profiles }}</strong
        >profiles</RouterLink
      >
      <div class="panel">
        <strong>{{ o.counts.parcels }}</strong>parcels built
      </div>
    </section>

    <section v-if="o.counts.gateways === 0" class="panel">
      <h2>First steps</h2>
      <ol class="mb-0">
        <li>
          <RouterLink to="/organisation">Name your organisation</RouterLink>: its name is on every
          card.
        </li>
        <li><RouterLink to="/gateways/new">Add a gateway</RouterLink> with its pre-shared key.</li>
        <li><RouterLink to="/people/new">Add a person</RouterLink> with an account.</li>
        <li>
          <RouterLink to="/devices/new">Add a device</RouterLink>, and on its page a profile for the
          gateway.
        </li>
      </ol>
    </section>

    <template v-else>
      <section class="panel mb-4" aria-labelledby="state">
        <h2 id="state">State of the profiles</h2>
        <p class="mb-0">
          <RouterLink to="/profiles?severity=error"
            >{{ o.counts.blocked }} cannot be built</RouterLink
          >
          because of errors, {{ o.counts.warned }} with a warning,
          {{ o.counts.clean }} clean<template v-if="o.counts.due"
            >, {{ o.counts.due }} check pending</template
          >.
        </p>
      </section>
      <p v-if="o.reports" class="panel mb-4">
        <RouterLink to="/explain"
          >{{ o.reports === 1 ? 'One person reports' : `${o.reports} reports of people` }} of
          problems</RouterLink
        >.
      </p>
      <section v-if="o.counts.gateways" class="panel mb-4" aria-labelledby="gateways">
        <h2 id="gateways">Probe results</h2>
        <ul class="gateways mb-0">
          <li v-for="p in probes" :key="p.id">
            <RouterLink :to="`/gateways/${p.gateway_id}`">{{ p.gateway }}</RouterLink>
            <span class="tag ms-2" :class="stateTag[p.state]">{{ stateText[p.state] }}</span>
          </li>
          <li v-if="more > 0">
            <RouterLink to="/gateways">and {{ more }} more</RouterLink>
          </li>
          <li v-if="unprobed">
            <span class="soft">{{ unprobed }} not probed yet: </span
            ><RouterLink to="/gateways">probe all</RouterLink>
          </li>
        </ul>
      </section>
      <div class="columns">
        <section class="panel" aria-labelledby="worst">
          <h2 id="worst">Needs attention</h2>
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
              <tr v-for="r in o.rules.slice(0, 14)" :key="r.rule">
                <td>
                  <span class="tag me-2" :class="r.severity">{{ r.severity }}</span>
                  <RouterLink :to="`/findings?rule=${r.rule}`">{{ r.title }}</RouterLink>
                </td>
                <td class="number">{{ r.profiles }}</td>
              </tr>
            </tbody>
          </table>
        </section>
      </div>
    </template>
  </template>
</template>

<style scoped>
.gateways {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 2rem;
  padding: 0;
  list-style: none;
}
</style>
