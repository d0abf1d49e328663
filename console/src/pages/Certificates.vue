<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, type ListQuery, type Schemas } from '../api/client'
import ListTable from '../parts/ListTable.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import RevokePanel from '../parts/RevokePanel.vue'
import { useAddress } from '../parts/useAddress'
import { day } from '../parts/times'

const columns = [
  { key: 'subject', text: 'For', sort: 'subject' },
  { key: 'names', text: 'Names' },
  { key: 'authority', text: 'Authority' },
  { key: 'ends', text: 'Expires', sort: 'ends' },
  { key: 'state', text: 'State' },
]
const route = useRoute()
const by = computed(() => String(route.query.authority_id ?? ''))
const which = useAddress('show')
const filters = computed(() =>
  [which.value, by.value ? `authority_id:${by.value}` : ''].filter((condition) => condition !== ''),
)
const choices = [
  { value: '', text: 'All' },
  { value: 'revoked:false', text: 'Not revoked' },
  { value: 'days:60', text: 'Expires within 60 days' },
  { value: 'revoked:true', text: 'Revoked' },
]
const load = (query: ListQuery, signal: AbortSignal) =>
  ask(api.GET('/api/v1/certificates', { params: { query }, signal }))
const changes = ref(0)

const expiries = ref<Schemas['Expiry'][]>([])
const pages: Record<string, string> = {
  gateway: '/gateways/',
  device: '/devices/',
  authority: '/authorities/',
}
const wrong = ref('')
async function look() {
  try {
    expiries.value = (
      await ask(api.GET('/api/v1/expiries', { params: { query: { days: 90 } } }))
    ).items
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
onMounted(look)
const looks: Record<string, string> = { valid: 'plain', expiring: 'warning' }
function state(c: Schemas['CertificateRow']) {
  if (c.revoked) return 'revoked'
  if (new Date(c.to) < new Date()) return 'expired'
  return new Date(c.to).getTime() - Date.now() < 30 * 86_400_000 ? 'expiring' : 'valid'
}
</script>

<template>
  <PageHead title="Certificates">
    <BButton to="/authorities" variant="outline-secondary" size="sm"
      >Authorities and signing</BButton
    >
  </PageHead>
  <p class="soft">Certificates are issued on the page of the device or gateway.</p>
  <Notice :text="wrong" />
  <section class="panel mb-4" aria-labelledby="expiries">
    <h2 id="expiries">Expires within 90 days</h2>
    <p v-if="expiries.length === 0" class="soft mb-0">
      Nothing. Warnings are sent 60, 30 and 7 days ahead to the log and by
      <RouterLink to="/mail">mail</RouterLink>.
    </p>
    <ul v-else class="mb-0">
      <li v-for="e in expiries" :key="e.noun + e.id + e.what">
        <span class="tag me-2" :class="e.days < 0 ? 'error' : e.days < 30 ? 'warning' : 'plain'">{{
          e.days < 0 ? 'ended' : e.days === 1 ? '1 day' : `${e.days} days`
        }}</span>
        <RouterLink v-if="pages[e.noun]" :to="pages[e.noun] + e.id">{{ e.name }}</RouterLink>
        <template v-else>{{ e.name }}</template>: {{ e.what }}, {{ day(e.expires) }}
      </li>
    </ul>
  </section>
  <ListTable
    :key="changes"
    noun="certificates"
    :columns="columns"
    :load="load"
    first="expires"
    :filters="filters"
  >
    <template #filter>
      <div>
        <label class="form-label" for="which">Filter</label>
        <BFormSelect id="which" v-model="which" :options="choices" />
      </div>
    </template>
    <template #cell="{ row, column }">
      <template v-if="column === 'subject'">
        <RouterLink :to="`/certificates/${row.id}`">{{
          row.device || row.gateway || row.subject
        }}</RouterLink>
        <span class="tag plain ms-2">{{ row.usage }}</span>
      </template>
      <span v-else-if="column === 'names'" class="mono small">{{ row.names.join(', ') }}</span>
      <RouterLink v-else-if="column === 'authority'" :to="`/authorities/${row.authority_id}`">{{
        row.authority
      }}</RouterLink>
      <span v-else-if="column === 'ends'" class="text-nowrap">{{ day(row.to) }}</span>
      <template v-else>
        <span class="tag me-2" :class="looks[state(row)] ?? 'error'">{{ state(row) }}</span>
        <RevokePanel
          v-if="!row.revoked"
          :id="row.id"
          :name="row.subject"
          @revoked="(changes++, look())"
        />
        <span v-else class="soft small">{{ day(row.revoked) }}, {{ row.reason }}</span>
      </template>
    </template>
    <template #empty>
      No certificate yet. Open a <RouterLink to="/devices">device</RouterLink> and issue its
      certificate there.
    </template>
  </ListTable>
</template>
