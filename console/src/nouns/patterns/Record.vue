<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask } from '../../api/client'
import { choices } from '../../api/records'
import { gateways as gatewayRecords } from '../../nouns/gateways'
import { patterns } from '../../nouns/patterns'
import Field from '../../parts/Field.vue'
import JobProgress from '../../parts/JobProgress.vue'
import Notice from '../../parts/Notice.vue'
import { offers } from '../../parts/offers'
import OrderField from '../../parts/OrderField.vue'
import PageHead from '../../parts/PageHead.vue'
import { platforms } from '../../parts/platforms'
import ProspectTable from '../../parts/ProspectTable.vue'
import RecordForm from '../../parts/RecordForm.vue'
import SampleButton from '../../parts/SampleButton.vue'
import RemoveButton from '../../parts/RemoveButton.vue'
import TabList from '../../parts/TabList.vue'
import TabPanel from '../../parts/TabPanel.vue'
import { useForm } from '../../parts/useForm'
import { useRecord } from '../../parts/useRecord'
import { useJob } from '../../parts/useJob'
import { useTabs } from '../../parts/useTabs'

const props = defineProps<{ id: string }>()
const router = useRouter()
useTabs('devices')
const parts = [
  { key: 'devices', text: 'Applies to' },
  { key: 'connection', text: 'Connection' },
  { key: 'when', text: 'When' },
]
const gateways = ref<{ value: string; text: string }[]>([])
const table = ref<{ look: () => Promise<void> }>()
const rolling = useForm({})
const empty = {
  name: '',
  note: '',
  naming: '',
  gateways: 'listed',
  tunnel: '',
  ipv6: '',
  connect: 'by-hand',
  password: '',
  scope: '',
  reconnect: true,
  unmetered: false,
  fallback: false,
  require_rehearsal: false,
  groups: [] as string[],
  platforms: [] as string[],
  protocols: [] as string[],
  gateway_ids: [] as string[],
  routes: [] as string[],
  dns: [] as string[],
  domains: [] as string[],
  demand: {
    networks: [] as string[],
    suffixes: [] as string[],
    domains: [] as string[],
    probe: '',
    interface: '',
  },
  proxy: { script: '', server: '', bypass: [] as string[] },
}
const { form, draft, row, fresh, wrong, save, remove } = useRecord({
  of: patterns,
  id: () => props.id,
  empty,
  draftOf: ({ id, version, created, changed, profiles, damaged, ...rest }) => {
    void [id, version, created, changed, profiles, damaged]
    return {
      ...empty,
      ...rest,
      gateways: rest.gateways || 'listed',
      connect: rest.connect || 'by-hand',
      demand: { ...empty.demand, ...rest.demand },
      proxy: { ...empty.proxy, ...rest.proxy },
    }
  },
  body: (typed) => ({ ...typed }),
  loaded: async () => {
    gateways.value = await choices(gatewayRecords)
  },
})
const protocols = offers.map((o) => ({ value: o.key as string, text: o.text }))
const choice = (empty: string, ...values: [string, string][]) => [
  ...(empty ? [{ value: '', text: empty }] : []),
  ...values.map(([value, text]) => ({ value, text })),
]

// The change as the preview sees it: a name is needed only for keeping.
const change = computed(() => ({ ...draft, name: draft.name.trim() || 'new pattern' }))
const { job, lost, follow } = useJob(async () => {
  await table.value?.look()
  row.value = await patterns.show(props.id)
})
async function rollOut() {
  await rolling.run(async () => {
    follow(
      await ask(
        api.POST('/api/v1/patterns/{id}/roll-outs', { params: { path: { id: props.id } } }),
      ),
    )
  }, '')
}
</script>

<template>
  <PageHead
    :title="fresh ? 'New pattern' : (row?.name ?? 'Pattern')"
    back="/patterns"
    back-text="Patterns"
  >
    <BButton v-if="row" :to="`/profiles?pattern_id=${id}`" variant="outline-secondary" size="sm"
      >{{ row.profiles }} profiles</BButton
    >
    <SampleButton v-if="row?.profiles" :id="id" noun="pattern" />
  </PageHead>
  <Notice v-if="!fresh && !row" :text="wrong" />
  <TabList v-if="fresh || row" label="Parts of the pattern" :of="parts" />
  <RecordForm
    v-if="fresh || row"
    class="panel"
    :form="form"
    :button="fresh ? 'Add the pattern' : 'Save'"
    @save="save"
  >
    <TabPanel of="devices" class="columns">
      <Field v-model="draft.name" label="Name" pointer="/name" required />
      <Field
        v-model="draft.groups"
        kind="list"
        label="Groups of people"
        pointer="/groups"
        help="One per line. Empty means all."
      />
      <Field
        v-model="draft.naming"
        label="Template for connection names"
        pointer="/naming"
        placeholder="{organisation} {gateway}"
        help="With {organisation}, {gateway}, {city}, {protocol}, {person} and {device}"
      />
      <fieldset class="mb-3">
        <legend class="form-label fs-6">Platforms</legend>
        <BFormCheckboxGroup v-model="draft.platforms" :options="platforms" name="platforms" />
        <div class="form-text">None selected means all.</div>
      </fieldset>
      <Field v-model="draft.note" kind="note" label="Note" pointer="/note" />
    </TabPanel>
    <TabPanel of="connection" class="columns">
      <OrderField
        v-model="draft.protocols"
        label="Protocols in order of preference"
        :choices="protocols"
        none="Strongest first, PPTP last."
      />
      <Field
        v-model="draft.gateways"
        kind="choice"
        label="Gateways"
        pointer="/gateways"
        :choices="
          choice(
            '',
            ['listed', 'The first of the list that the device can use'],
            ['nearest', 'The nearest to the person'],
            ['fastest', 'The one that answers soonest where the person is'],
            ['each', 'One profile for each'],
          )
        "
      />
      <Field
        v-if="draft.gateways !== 'each'"
        v-model="draft.fallback"
        kind="check"
        label="Second gateway for when the first does not respond"
        help="In the same file if the format supports it, else as its own connection."
      />
      <OrderField
        v-model="draft.gateway_ids"
        label="Out of"
        :choices="gateways"
        none="All gateways."
      />
      <Field
        v-model="draft.tunnel"
        kind="choice"
        label="Tunnel"
        pointer="/tunnel"
        :choices="choice('By the gateway', ['full', 'full'], ['split', 'split'])"
      />
      <Field
        v-if="draft.tunnel !== 'full'"
        v-model="draft.routes"
        kind="list"
        label="Networks"
        pointer="/routes"
        help="CIDR, one per line. Empty uses the gateway's."
      />
      <div class="pairs">
        <Field v-model="draft.dns" kind="list" label="DNS servers" pointer="/dns" />
        <Field v-model="draft.domains" kind="list" label="Internal domains" pointer="/domains" />
      </div>
      <Field
        v-model="draft.ipv6"
        kind="choice"
        label="IPv6"
        pointer="/ipv6"
        :choices="
          choice(
            'By the gateway',
            ['carried', 'goes through the tunnel'],
            ['refused', 'does not leave the device'],
            ['left', 'stays outside'],
          )
        "
      />
    </TabPanel>
    <TabPanel of="when" class="columns">
      <Field
        v-model="draft.connect"
        kind="choice"
        label="Connect"
        pointer="/connect"
        :choices="
          choice(
            '',
            ['by-hand', 'by hand'],
            ['at-sign-in', 'at sign-in'],
            ['on-demand', 'on demand'],
            ['always', 'always'],
          )
        "
      />
      <template v-if="draft.connect === 'on-demand'">
        <Field
          v-model="draft.demand.domains"
          kind="list"
          label="When looking up names in"
          pointer="/demand/domains"
        />
        <Field
          v-model="draft.demand.networks"
          kind="list"
          label="Except in the wireless networks"
          pointer="/demand/networks"
        />
        <Field
          v-model="draft.demand.suffixes"
          kind="list"
          label="Except where the DNS suffix is"
          pointer="/demand/suffixes"
        />
        <Field
          v-model="draft.demand.probe"
          label="Except while this URL responds"
          pointer="/demand/probe"
        />
        <Field
          v-model="draft.demand.interface"
          kind="choice"
          label="Only over"
          pointer="/demand/interface"
          :choices="
            choice(
              'anything',
              ['wifi', 'Wi-Fi'],
              ['cellular', 'mobile data'],
              ['ethernet', 'cable'],
            )
          "
        />
      </template>
      <Field v-model="draft.reconnect" kind="check" label="Reconnect automatically" />
      <Field
        v-model="draft.unmetered"
        kind="check"
        label="Automatically only on unmetered networks"
      />
      <Field
        v-model="draft.password"
        kind="choice"
        label="Password"
        pointer="/password"
        :choices="choice('By the device', ['saved', 'saved'], ['asked', 'asked'])"
      />
      <Field
        v-model="draft.scope"
        kind="choice"
        label="For"
        pointer="/scope"
        :choices="
          choice('By the device', ['person', 'the person'], ['machine', 'the whole machine'])
        "
      />
      <Field
        v-model="draft.require_rehearsal"
        kind="check"
        label="Hand over only what a rehearsal passed with"
      />
      <Field v-model="draft.proxy.script" label="Proxy script" pointer="/proxy/script" />
      <Field v-model="draft.proxy.server" label="Proxy, host:port" pointer="/proxy/server" />
      <Field
        v-if="draft.proxy.script || draft.proxy.server"
        v-model="draft.proxy.bypass"
        kind="list"
        label="Bypass the proxy for"
        pointer="/proxy/bypass"
      />
    </TabPanel>
    <template #more>
      <RemoveButton
        v-if="row"
        noun="pattern"
        :name="row.name"
        :remove="remove"
        @removed="router.push('/patterns')"
      />
    </template>
  </RecordForm>
  <section v-if="fresh || row" class="panel mt-4" aria-labelledby="prospects">
    <div class="d-flex flex-wrap gap-3 align-items-center mb-2">
      <h2 id="prospects" class="mb-0">Effect</h2>
      <BButton
        v-if="row"
        class="alters ms-auto"
        variant="primary"
        :disabled="job?.state === 'running'"
        @click="rollOut"
        >Roll out</BButton
      >
    </div>
    <Notice :text="rolling.wrong.value" />
    <JobProgress v-if="job" v-model="job" class="mb-3" of="devices" :lost="lost" />
    <p class="soft">
      Effect of the form as it is now. Nothing changes until the saved pattern is rolled out.
    </p>
    <ProspectTable ref="table" :pattern="fresh ? '' : id" :change="change" />
  </section>
</template>
