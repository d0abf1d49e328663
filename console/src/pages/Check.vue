<script setup lang="ts">
// Files from anywhere: dropped, looked at, and forgotten unless their facts are taken.
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import AgreementList from '../parts/AgreementList.vue'
import ChainView from '../parts/ChainView.vue'
import DropArea from '../parts/DropArea.vue'
import FileRehearsal from '../parts/FileRehearsal.vue'
import FindingBox from '../parts/FindingBox.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import TallyTags from '../parts/TallyTags.vue'
import { offers } from '../parts/offers'
import { platformText } from '../parts/platforms'

const files = ref<File[]>([])
const result = ref<Schemas['Checked']>()
const imported = ref<Schemas['Imported']>()
const wrong = ref('')
const round = ref(0) // of looking: what was done with the files before is not of these
const busy = ref(false)
const release = ref('')
const person = ref('')
const device = ref('')
const people = ref<{ value: string; text: string }[]>([])
const releases = ref<{ value: string; text: string }[]>([])

onMounted(async () => {
  const rows = (await ask(api.GET('/api/v1/platforms'))).items
  releases.value = rows.map((r) => ({
    value: `${r.platform} ${r.releases[r.releases.length - 1]}`,
    text: `${platformText(r.platform)} ${r.releases[r.releases.length - 1]}`,
  }))
  const page = await ask(api.GET('/api/v1/people', { params: { query: { limit: 200 } } }))
  people.value = page.items.map((p) => ({ value: p.id, text: p.name }))
})

function form() {
  const data = new FormData()
  for (const f of files.value) data.append('file', f, f.name)
  return data as never
}
async function run(work: () => Promise<void>) {
  busy.value = true
  wrong.value = ''
  try {
    await work()
  } catch (e) {
    wrong.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
function look() {
  if (files.value.length === 0) return
  imported.value = undefined
  void run(async () => {
    const query = { for: release.value || undefined }
    result.value = await ask(
      api.POST('/api/v1/file-checks', {
        params: { query },
        body: form(),
        bodySerializer: (b) => b,
      }),
    )
    round.value++
  })
}
function bring(keep: boolean) {
  void run(async () => {
    const query = {
      person: person.value || undefined,
      device: device.value.trim() || undefined,
      for: release.value || undefined,
      keep,
    }
    imported.value = await ask(
      api.POST('/api/v1/imports', { params: { query }, body: form(), bodySerializer: (b) => b }),
    )
  })
}
function add(list: File[]) {
  files.value = list
  look()
}
const connections = computed(() => result.value?.files.flatMap((f) => f.connections) ?? [])
const lacking = computed(() =>
  imported.value?.items.some((i) => i.state === 'new' || i.state === 'changed'),
)
function at(f: Schemas['Finding']) {
  const p = f.position
  if (!p) return ''
  return [p.file, p.line ? `line ${p.line}` : '', p.path ?? ''].filter(Boolean).join(', ')
}
</script>

<template>
  <PageHead title="Check files" />
  <p class="soft">
    Profiles, keyfiles, .ovpn files, scripts, certificates and archives of them, from any source.
    They are not stored.
  </p>
  <DropArea id="files" multiple @files="add"
    ><strong>Drop files here</strong>, or <span class="pick">choose them</span>. Drop files that
    belong together in one go; a passphrase can be in passphrase.txt next to them.</DropArea
  >
  <div class="d-flex flex-wrap gap-3 align-items-end mb-3">
    <div>
      <label class="form-label" for="release">Device</label>
      <BFormSelect
        id="release"
        v-model="release"
        :options="[{ value: '', text: 'Any' }, ...releases]"
        @update:model-value="look"
      />
    </div>
    <span v-if="files.length" class="soft">{{ files.map((f) => f.name).join(', ') }}</span>
  </div>
  <Notice :text="wrong" />
  <p v-if="busy" role="status" class="soft">Checking…</p>

  <template v-if="result">
    <section class="panel mb-4" aria-labelledby="said">
      <div class="d-flex flex-wrap gap-3 align-items-center mb-2">
        <h2 id="said" class="mb-0">Contents of the files</h2>
        <TallyTags :tally="result.tally" />
      </div>
      <ul class="mb-0">
        <li v-for="f in result.files" :key="f.name">
          <span class="mono me-2">{{ f.name }}</span><span class="soft">{{
            f.kind || 'nothing that is read'
          }}</span>
          <ul>
            <li v-for="(c, i) in f.connections" :key="i">
              {{ c.name }}: {{ offers.find((o) => o.key === c.protocol)?.text }} to
              <span class="mono">{{ c.server }}</span>
              <span v-if="c.gateway" class="tag plain ms-2">on record as {{ c.gateway }}</span>
              <AgreementList class="small" :agreements="c.agreements" />
              <FileRehearsal
                :key="`${round}-${f.name}-${i}`"
                :files="files"
                :file="f.name"
                :connection="c"
                :release="release"
              />
            </li>
          </ul>
          <details v-if="f.not_carried.length" class="mb-2">
            <summary>{{ f.not_carried.length }} not carried to records or other formats</summary>
            <ul class="mt-1">
              <li v-for="(u, i) in f.not_carried" :key="i">
                <span class="mono">{{ u.what }}</span>
                <span v-if="u.at.line" class="soft ms-2">line {{ u.at.line }}</span>
              </li>
            </ul>
          </details>
          <details
            v-for="(links, i) in f.chains"
            :key="`chain ${i}`"
            class="mb-2"
            :open="links.some((l) => l.fault)"
          >
            <summary>Chain of {{ links[0]?.subject }}</summary>
            <ChainView class="mt-2" :links="links" />
          </details>
        </li>
      </ul>
    </section>
    <section class="panel mb-4" aria-labelledby="found">
      <h2 id="found">Findings</h2>
      <p v-if="result.findings.length === 0" class="mb-0">No findings.</p>
      <FindingBox v-for="(f, i) in result.findings" :key="i" :finding="f">
        <span class="soft d-block">{{ at(f) }}</span>
      </FindingBox>
    </section>
    <section v-if="connections.length" class="panel mb-4" aria-labelledby="import">
      <h2 id="import">Import into the records</h2>
      <p class="soft">
        Adds gateways and offers that are not on record, accounts for the person, and a certificate
        with its key for the device. A device that is not on record is added, with the platform that
        is chosen above. Shown first, nothing is added yet.
      </p>
      <div class="d-flex flex-wrap gap-3 align-items-end">
        <div>
          <label class="form-label" for="person">Person for the accounts</label>
          <BFormSelect
            id="person"
            v-model="person"
            :options="[{ value: '', text: 'Nobody' }, ...people]"
          />
        </div>
        <div>
          <label class="form-label" for="device">Device for the certificate</label>
          <BFormInput id="device" v-model="device" maxlength="200" autocomplete="off" />
        </div>
        <BButton class="alters" variant="outline-secondary" :disabled="busy" @click="bring(false)"
          >Preview</BButton
        >
        <BButton
          v-if="lacking && !imported?.kept"
          class="alters"
          variant="primary"
          :disabled="busy"
          @click="bring(true)"
          >Import</BButton
        >
      </div>
      <ul v-if="imported" class="mt-3 mb-0" role="status">
        <li v-for="(t, i) in imported.items" :key="i">
          <span class="tag plain me-2">{{
            imported.kept && t.state === 'new' ? 'added' : t.state
          }}</span>{{ t.noun }} {{ t.name }}: {{ t.detail }}
        </li>
      </ul>
    </section>
  </template>
</template>
