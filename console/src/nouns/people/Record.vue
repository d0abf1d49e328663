<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { choices } from '../../api/records'
import { gateways as gatewayRecords } from '../../nouns/gateways'
import { people } from '../../nouns/people'
import AccountForm from '../../parts/AccountForm.vue'
import Field from '../../parts/Field.vue'
import Notice from '../../parts/Notice.vue'
import PageHead from '../../parts/PageHead.vue'
import RecordForm from '../../parts/RecordForm.vue'
import RemoveButton from '../../parts/RemoveButton.vue'
import OffboardPanel from '../../parts/OffboardPanel.vue'
import TabList from '../../parts/TabList.vue'
import TabPanel from '../../parts/TabPanel.vue'
import TallyTags from '../../parts/TallyTags.vue'
import { platformText } from '../../parts/platforms'
import { useRecord } from '../../parts/useRecord'
import { useTabs } from '../../parts/useTabs'

const props = defineProps<{ id: string }>()
const router = useRouter()
const { shown: tab } = useTabs('record')
const accounts = ref<Schemas['AccountRow'][]>([])
const devices = ref<Schemas['DeviceRow'][]>([])
const gateways = ref<{ value: string; text: string }[]>([])

async function belongings() {
  if (fresh.value) return
  const query = { filter: [`person_id:${props.id}`], limit: 100 }
  accounts.value = (await ask(api.GET('/api/v1/accounts', { params: { query } }))).items
  devices.value = (await ask(api.GET('/api/v1/devices', { params: { query } }))).items
  gateways.value = await choices(gatewayRecords)
}
const { form, draft, row, fresh, wrong, save, remove } = useRecord({
  of: people,
  id: () => props.id,
  empty: {
    name: '',
    mail: '',
    language: '',
    groups: [] as string[],
    place: {} as Schemas['Place'],
  },
  draftOf: ({ name, mail = '', language = '', groups, place }) => ({
    name,
    mail,
    language,
    groups,
    place,
  }),
  body: (typed) => typed,
  loaded: belongings,
})
const parts = computed(() => [
  { key: 'record', text: 'Record' },
  { key: 'devices', text: 'Devices', count: devices.value.length, off: fresh.value },
  { key: 'accounts', text: 'Accounts', count: accounts.value.length, off: fresh.value },
  { key: 'offboarding', text: 'Offboarding', off: fresh.value },
])
</script>

<template>
  <PageHead
    :title="fresh ? 'New person' : (row?.name ?? 'Person')"
    back="/people"
    back-text="People"
  />
  <Notice v-if="!fresh && !row" :text="wrong" />
  <TabList v-if="row" label="Parts of the person" :of="parts" />
  <RecordForm
    v-if="fresh || row"
    v-show="fresh || tab === 'record'"
    class="panel mb-4"
    :form="form"
    :button="fresh ? 'Add the person' : 'Save'"
    @save="save"
  >
    <TabPanel of="record" class="columns">
      <Field v-model="draft.name" label="Name" pointer="/name" required />
      <Field v-model="draft.mail" label="Email address" pointer="/mail" />
      <Field v-model="draft.language" label="Language" pointer="/language" described />
      <div class="pairs">
        <Field
          v-model="draft.place.latitude"
          kind="number"
          label="Latitude"
          pointer="/place/latitude"
          described
        />
        <Field
          v-model="draft.place.longitude"
          kind="number"
          label="Longitude"
          pointer="/place/longitude"
        />
      </div>
      <Field v-model="draft.groups" kind="list" label="Groups" pointer="/groups" described />
    </TabPanel>
    <template #more>
      <RemoveButton
        v-if="row"
        noun="person"
        :name="row.name"
        :remove="remove"
        @removed="router.push('/people')"
      />
    </template>
  </RecordForm>
  <template v-if="row">
    <TabPanel of="devices"
      ><section class="panel mb-4" aria-labelledby="devices">
        <div class="d-flex gap-3 align-items-center mb-2">
          <h2 id="devices" class="mb-0">Devices</h2>
          <BButton :to="`/devices/new?person=${id}`" variant="outline-secondary" size="sm"
            >Add a device</BButton
          >
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
        </table></section
    ></TabPanel>
    <TabPanel of="offboarding">
      <OffboardPanel :id="row.id" noun="person" :name="row.name" @offboarded="belongings" />
    </TabPanel>
    <TabPanel of="accounts">
      <section
        v-for="a in accounts"
        :key="a.id + a.version"
        class="panel mb-4"
        :aria-label="`Account ${a.login}`"
      >
        <h2>
          Account <span class="mono">{{ a.login }}</span>
        </h2>
        <AccountForm :person="id" :account="a" :gateways="gateways" @changed="belongings" />
      </section>
      <section class="panel mb-4" aria-labelledby="new-account">
        <h2 id="new-account">{{ accounts.length ? 'Another account' : 'First account' }}</h2>
        <AccountForm :person="id" :gateways="gateways" @changed="belongings" />
      </section>
    </TabPanel>
  </template>
</template>
