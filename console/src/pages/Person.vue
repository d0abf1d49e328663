<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, patch, type Schemas } from '../api/client'
import AccountForm from '../parts/AccountForm.vue'
import Field from '../parts/Field.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import RemoveButton from '../parts/RemoveButton.vue'
import OffboardPanel from '../parts/OffboardPanel.vue'
import TallyTags from '../parts/TallyTags.vue'
import { platformText } from '../parts/platforms'
import { useForm } from '../parts/useForm'

const props = defineProps<{ id: string }>()
const router = useRouter()
const fresh = computed(() => props.id === 'new')
const row = ref<Schemas['PersonRow']>()
const accounts = ref<Schemas['AccountRow'][]>([])
const devices = ref<Schemas['DeviceRow'][]>([])
const gateways = ref<{ value: string; text: string }[]>([])
const { draft, errors, wrong, done, busy, fill, run } = useForm({
  name: '',
  mail: '',
  language: '',
  groups: [] as string[],
  place: {} as Schemas['Place'],
})

function show(p: Schemas['PersonRow']) {
  row.value = p
  fill({ name: p.name, mail: p.mail ?? '', language: p.language ?? '', groups: p.groups, place: p.place })
}
async function belongings() {
  const query = { filter: [`person_id:${props.id}`], limit: 100 }
  accounts.value = (await ask(api.GET('/api/v1/accounts', { params: { query } }))).items
  devices.value = (await ask(api.GET('/api/v1/devices', { params: { query } }))).items
  const all = await ask(api.GET('/api/v1/gateways', { params: { query: { limit: 500 } } }))
  gateways.value = all.items.map((g) => ({ value: g.id, text: g.name }))
}
onMounted(async () => {
  if (fresh.value) return
  await run(async () => {
    show(await ask(api.GET('/api/v1/people/{id}', { params: { path: { id: props.id } } })))
    await belongings()
  }, '')
})
async function save() {
  await run(async () => {
    if (fresh.value) {
      const p = await ask(api.POST('/api/v1/people', { body: draft }))
      await router.replace(`/people/${p.id}`)
    } else show(await ask(api.PATCH('/api/v1/people/{id}', { ...patch(props.id, row.value!.version), body: draft })))
  })
}
const remove = () => ask(api.DELETE('/api/v1/people/{id}', { params: { path: { id: props.id } } }))
</script>

<template>
  <PageHead :title="fresh ? 'New person' : (row?.name ?? 'Person')" back="/people" back-text="People" />
  <Notice v-if="!fresh && !row" :text="wrong" />
  <form v-if="fresh || row" class="panel mb-4" novalidate @submit.prevent="save">
    <div class="columns">
      <Field v-model="draft.name" label="Name" pointer="/name" :errors="errors" required />
      <Field v-model="draft.mail" label="Email address" pointer="/mail" :errors="errors" />
      <Field
        v-model="draft.language"
        label="Language"
        pointer="/language"
        :errors="errors"
        help="Such as en, de or pt-BR"
      />
      <div class="pairs">
        <Field
          v-model="draft.place.latitude"
          kind="number"
          label="Latitude"
          pointer="/place/latitude"
          :errors="errors"
          help="For the nearest gateway"
        />
        <Field
          v-model="draft.place.longitude"
          kind="number"
          label="Longitude"
          pointer="/place/longitude"
          :errors="errors"
        />
      </div>
      <Field v-model="draft.groups" kind="list" label="Groups" pointer="/groups" :errors="errors" help="One per line" />
    </div>
    <Notice :text="wrong" /><Notice :text="done" kind="done" />
    <div class="d-flex flex-wrap gap-2 mt-2">
      <BButton class="alters" type="submit" variant="primary" :disabled="busy">{{
        fresh ? 'Add the person' : 'Save'
      }}</BButton>
      <RemoveButton v-if="row" noun="person" :name="row.name" :remove="remove" @removed="router.push('/people')" />
    </div>
  </form>
  <template v-if="row">
    <section class="panel mb-4" aria-labelledby="devices">
      <div class="d-flex gap-3 align-items-center mb-2">
        <h2 id="devices" class="mb-0">Devices</h2>
        <BButton :to="`/devices/new?person=${id}`" variant="outline-secondary" size="sm">Add a device</BButton>
      </div>
      <p v-if="devices.length === 0" class="mb-0">No device yet.</p>
      <table v-else class="grid-table">
        <thead class="visually-hidden">
          <tr>
            <th scope="col">Device</th>
            <th scope="col">Platform</th>
            <th scope="col">Findings</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="d in devices" :key="d.id">
            <td>
              <RouterLink :to="`/devices/${d.id}`">{{ d.name }}</RouterLink>
            </td>
            <td>{{ platformText(d.platform) }} {{ d.release }}</td>
            <td><TallyTags :tally="d.tally" /></td>
          </tr>
        </tbody>
      </table>
    </section>
    <OffboardPanel :id="row.id" noun="person" :name="row.name" @offboarded="belongings" />
    <section v-for="a in accounts" :key="a.id + a.version" class="panel mb-4" :aria-label="`Account ${a.login}`">
      <h2>
        Account <span class="mono">{{ a.login }}</span>
      </h2>
      <AccountForm :person="id" :account="a" :gateways="gateways" @changed="belongings" />
    </section>
    <section class="panel mb-4" aria-labelledby="new-account">
      <h2 id="new-account">{{ accounts.length ? 'Another account' : 'First account' }}</h2>
      <AccountForm :person="id" :gateways="gateways" @changed="belongings" />
    </section>
  </template>
</template>
