<script setup lang="ts">
// A profile: how far it has come, and everything of it by tabs.
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../../api/client'
import Files from './Files.vue'
import Plan from './Plan.vue'
import Preferences from './Preferences.vue'
import FindingBox from '../../parts/FindingBox.vue'
import HandoverPanel from '../../parts/HandoverPanel.vue'
import HistoryList from '../../parts/HistoryList.vue'
import Notice from '../../parts/Notice.vue'
import OverridePanel from '../../parts/OverridePanel.vue'
import PageHead from '../../parts/PageHead.vue'
import ParcelList from '../../parts/ParcelList.vue'
import RehearsalPanel from '../../parts/RehearsalPanel.vue'
import TabList from '../../parts/TabList.vue'
import TabPanel from '../../parts/TabPanel.vue'
import TallyTags from '../../parts/TallyTags.vue'
import WaySteps from '../../parts/WaySteps.vue'
import { useForm } from '../../parts/useForm'
import { useTabs } from '../../parts/useTabs'

const props = defineProps<{ id: string }>()
const planned = ref<Schemas['Planned']>()
const byHand = ref(false)
const page = useForm({})
const { shown } = useTabs('plan')
const parts = computed(() => [
  { key: 'plan', text: 'Plan' },
  { key: 'findings', text: 'Findings', count: planned.value?.findings.length },
  { key: 'files', text: 'Files' },
  { key: 'rehearsal', text: 'Rehearsal' },
  { key: 'handover', text: 'Handover' },
  { key: 'settings', text: 'Settings' },
  { key: 'history', text: 'History' },
])

async function plan() {
  const params = { path: { id: props.id } }
  planned.value = await ask(api.GET('/api/v1/profiles/{id}/plan', { params }))
}
onMounted(() => page.run(plan, ''))
const again = () => page.run(plan, '')

// What a file cannot carry can still be typed.
const blocked = computed(
  () =>
    !!planned.value?.findings.some(
      (f) => f.severity === 'error' && !(byHand.value && f.rule === 'format-unfit'),
    ),
)
</script>

<template>
  <PageHead :title="planned?.title ?? 'Profile'" back="/profiles" back-text="Profiles">
    <TallyTags v-if="planned" :tally="planned.tally" />
  </PageHead>
  <Notice :text="page.wrong.value" />
  <template v-if="planned">
    <p class="soft">
      {{ planned.release }} ·
      <RouterLink :to="`/devices/${planned.profile.device_id}`">device</RouterLink> ·
      <RouterLink :to="`/people/${planned.person_id}`">person</RouterLink> ·
      <RouterLink :to="`/gateways/${planned.profile.gateway_id}`">gateway</RouterLink> ·
      <RouterLink :to="`/explain?profile=${planned.profile.id}`">explain a failure</RouterLink>
      <template v-if="planned.profile.pattern_id">
        · pattern
        <RouterLink :to="`/patterns/${planned.profile.pattern_id}`">{{
          planned.pattern
        }}</RouterLink>
      </template>
    </p>
    <WaySteps :planned="planned" />
    <p v-for="s in planned.switchovers" :key="s.id" class="finding note">
      Planned with the new value of
      <RouterLink :to="`/switchovers/${s.id}`">{{ s.name }}</RouterLink>; it is on the gateway's
      record after the cut-off.
    </p>
    <TabList label="Parts of the profile" :of="parts" />
    <TabPanel of="plan"><Plan :planned="planned" /></TabPanel>
    <TabPanel of="findings">
      <p v-if="!planned.findings.length" class="soft">No findings.</p>
      <FindingBox
        v-for="f in planned.findings"
        :key="f.rule + f.found"
        :finding="f"
        :person="planned.person_id"
        ><OverridePanel :id="id" :finding="f" @changed="again"
      /></FindingBox>
    </TabPanel>
    <TabPanel of="files">
      <ParcelList
        :id="id"
        :blocked="blocked"
        :by-hand="byHand"
        :stamp="planned.profile.version"
        @changed="again"
      />
      <Files :id="id" v-model:by-hand="byHand" :stamp="planned.profile.version" />
    </TabPanel>
    <TabPanel of="rehearsal"><RehearsalPanel :profile="id" @changed="again" /></TabPanel>
    <TabPanel of="handover"><HandoverPanel :profile="id" @changed="again" /></TabPanel>
    <TabPanel of="settings"><Preferences :planned="planned" @changed="again" /></TabPanel>
    <TabPanel of="history"><HistoryList v-if="shown === 'history'" :of="id" /></TabPanel>
  </template>
</template>
