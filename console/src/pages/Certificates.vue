<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { api, ask, type ListQuery, type Schemas } from '../api/client'
import Field from '../parts/Field.vue'
import ListTable from '../parts/ListTable.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import RevokePanel from '../parts/RevokePanel.vue'
import { useForm } from '../parts/useForm'

const columns = [
  { key: 'subject', text: 'For', sort: 'subject' },
  { key: 'names', text: 'Names' },
  { key: 'authority', text: 'Authority' },
  { key: 'ends', text: 'Ends', sort: 'ends' },
  { key: 'state', text: 'State' },
]
const which = ref('')
const filters = computed(() => (which.value ? [which.value] : []))
const choices = [
  { value: '', text: 'All' },
  { value: 'revoked:false', text: 'Not revoked' },
  { value: 'days:60', text: 'Ending within 60 days' },
  { value: 'revoked:true', text: 'Revoked' },
]
const load = (query: ListQuery) => ask(api.GET('/api/v1/certificates', { params: { query } }))
const changes = ref(0)

const endings = ref<Schemas['Ending'][]>([])
const pages: Record<string, string> = { gateway: '/gateways/', device: '/devices/' }
const authorities = ref<Schemas['AuthorityRow'][]>([])
const making = ref(false)
const { draft, errors, wrong, done, busy, run } = useForm({ name: '', kind: 'p256', issuing: true, years: 10 })
async function look() {
  authorities.value = (await ask(api.GET('/api/v1/authorities', { params: { query: { limit: 100 } } }))).items
  endings.value = (await ask(api.GET('/api/v1/endings', { params: { query: { days: 90 } } }))).items
}
onMounted(() => run(look, ''))
async function make() {
  await run(async () => {
    const body = { ...draft, permitted: [], excluded: [], lists: [] } as unknown as Schemas['NewAuthority']
    await ask(api.POST('/api/v1/make-authority', { body }))
    making.value = false
    await look()
  }, 'Made.')
}
const looks: Record<string, string> = { valid: 'plain', ending: 'warning' }
const day = (v: string) => new Date(v).toLocaleDateString()
function state(c: Schemas['CertificateRow']) {
  if (c.revoked) return 'revoked'
  if (new Date(c.to) < new Date()) return 'ended'
  return new Date(c.to).getTime() - Date.now() < 30 * 86_400_000 ? 'ending' : 'valid'
}
</script>

<template>
  <PageHead title="Certificates"
    ><BButton v-if="!making" variant="primary" size="sm" @click="making = true">Make an authority</BButton></PageHead
  >
  <p class="soft">
    Authorities vouch for gateways and devices. Their keys are sealed here and never come back. A device gets its
    certificate on its own page.
  </p>
  <form v-if="making" class="panel mb-4" novalidate @submit.prevent="make">
    <div class="columns">
      <Field v-model="draft.name" label="Name" pointer="/name" :errors="errors" required />
      <Field
        v-model="draft.kind"
        kind="choice"
        label="Kind of key"
        pointer="/kind"
        :errors="errors"
        :choices="[
          { value: 'p256', text: 'P-256' },
          { value: 'p384', text: 'P-384' },
          { value: 'rsa3072', text: 'RSA, 3072 bits' },
        ]"
      />
      <Field v-model="draft.years" kind="number" label="Years that it is valid" pointer="/years" :errors="errors" />
    </div>
    <Field v-model="draft.issuing" kind="check" label="A root, and below it the authority that issues" />
    <Notice :text="wrong" />
    <BButton type="submit" variant="primary" :disabled="busy">Make it</BButton>
    <BButton type="button" variant="link" @click="making = false">Cancel</BButton>
  </form>
  <div v-else-if="wrong || done" class="mb-4"><Notice :text="wrong" /><Notice :text="done" kind="done" /></div>
  <section class="panel mb-4" aria-labelledby="authorities">
    <h2 id="authorities">Authorities</h2>
    <p v-if="authorities.length === 0" class="mb-0">
      No authority yet. Make one here, or bring one in with <span class="mono">wardicon authority add</span>.
    </p>
    <table v-else class="grid-table stack">
      <thead>
        <tr>
          <th scope="col">Name</th>
          <th scope="col">Ends</th>
          <th scope="col">Key</th>
          <th scope="col" class="number">Issued</th>
          <th scope="col" class="number">Revoked</th>
          <th scope="col">List of the revoked</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="a in authorities" :key="a.id">
          <td>{{ a.name }}</td>
          <td data-label="Ends">{{ day(a.ends) }}</td>
          <td data-label="Key">{{ a.retired ? 'retired' : a.key_set ? 'sealed here' : 'elsewhere' }}</td>
          <td data-label="Issued" class="number">{{ a.certificates }}</td>
          <td data-label="Revoked" class="number">{{ a.revoked }}</td>
          <td data-label="List of the revoked">
            <a v-if="a.key_set" :href="`/lists/${a.id}.crl`" download>{{ a.id }}.crl</a
            ><span v-else class="soft">none</span>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
  <section class="panel mb-4" aria-labelledby="endings">
    <h2 id="endings">What ends within 90 days</h2>
    <p v-if="endings.length === 0" class="soft mb-0">Nothing. The log warns 60, 30 and 7 days ahead.</p>
    <ul v-else class="mb-0">
      <li v-for="e in endings" :key="e.noun + e.id + e.what">
        <span class="tag me-2" :class="e.days < 0 ? 'blocker' : e.days < 30 ? 'warning' : 'plain'">{{
          e.days < 0 ? 'ended' : e.days === 1 ? '1 day' : `${e.days} days`
        }}</span>
        <RouterLink v-if="pages[e.noun]" :to="pages[e.noun] + e.id">{{ e.name }}</RouterLink>
        <template v-else>{{ e.name }}</template>: {{ e.what }}, {{ day(e.ends) }}
      </li>
    </ul>
  </section>
  <ListTable :key="changes" noun="certificates" :columns="columns" :load="load" first="ends" :filters="filters">
    <template #filter>
      <div>
        <label class="form-label" for="which">Which</label>
        <BFormSelect id="which" v-model="which" :options="choices" />
      </div>
    </template>
    <template #cell="{ row, column }">
      <template v-if="column === 'subject'">
        <RouterLink v-if="row.device_id" :to="`/devices/${row.device_id}`">{{ row.device }}</RouterLink>
        <template v-else>{{ row.subject }}</template>
        <span class="tag plain ms-2">{{ row.usage }}</span>
      </template>
      <span v-else-if="column === 'names'" class="mono small">{{ row.names.join(', ') }}</span>
      <template v-else-if="column === 'authority'">{{ row.authority }}</template>
      <span v-else-if="column === 'ends'" class="text-nowrap">{{ day(row.to) }}</span>
      <template v-else>
        <span class="tag me-2" :class="looks[state(row)] ?? 'blocker'">{{ state(row) }}</span>
        <RevokePanel v-if="!row.revoked" :id="row.id" :name="row.subject" @revoked="(changes++, look())" />
        <span v-else class="soft small">{{ day(row.revoked) }}, {{ row.reason }}</span>
      </template>
    </template>
    <template #empty>
      Nothing was issued yet. Open a <RouterLink to="/devices">device</RouterLink> and issue its certificate there.
    </template>
  </ListTable>
</template>
