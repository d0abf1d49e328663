<script setup lang="ts">
// A code or a log is pasted, a case is chosen, and the causes come ranked.
import { nextTick, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, type Schemas } from '../api/client'
import Field from '../parts/Field.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import ProfileField from '../parts/ProfileField.vue'
import { useForm } from '../parts/useForm'
import { exact } from '../parts/times'
import { told } from '../told'

const route = useRoute()
const { draft, wrong, busy, run } = useForm({
  text: '',
  profile_id: String(route.query.profile ?? ''),
})
const heading = ref<HTMLElement>()
const result = ref<Schemas['Explanation']>()
const reports = ref<Schemas['Report'][]>([])
const most = 6

async function lookForReports() {
  const query = { limit: 20, filter: ['open:true'] }
  reports.value = (await ask(api.GET('/api/v1/reports', { params: { query } }))).items
}
onMounted(() => run(lookForReports, ''))
function lookInto(r: Schemas['Report']) {
  draft.text = r.message
  draft.profile_id = r.profile_id
  void tell()
}
const close = (id: string) =>
  run(async () => {
    await ask(api.POST('/api/v1/reports/{id}/closure', { params: { path: { id } } }))
    await lookForReports()
  }, '')

const tell = () =>
  run(async () => {
    const body = { text: draft.text, profile_id: draft.profile_id || undefined }
    result.value = await ask(api.POST('/api/v1/explanations', { body }))
    await nextTick()
    heading.value?.focus()
  }, '')
async function read(list: FileList | null) {
  const file = list?.[0]
  if (!file) return
  // The end of a log tells of the last try.
  draft.text = await file.slice(-900_000).text()
}
</script>

<template>
  <PageHead title="Explain a failure" />
  <p class="soft">
    Paste an error code or log lines to find the cause. Secrets are masked, and nothing is stored.
  </p>
  <section v-if="reports.length" class="panel mb-4" aria-labelledby="reports">
    <h2 id="reports">Problem reports</h2>
    <table class="grid-table stack">
      <thead>
        <tr>
          <th scope="col">Person</th>
          <th scope="col">Message</th>
          <th scope="col">Likeliest cause</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in reports" :key="r.id">
          <th scope="row">
            {{ r.person }}
            <div class="soft small fw-normal">
              {{ r.device }} → {{ r.gateway }}, {{ exact(r.created) }}
            </div>
          </th>
          <td data-label="Message" class="said small">
            {{ r.message }}
            <details v-if="r.facts" class="mt-1">
              <summary>What was seen then</summary>
              <div v-for="f in r.facts.split('\n')" :key="f" class="soft">{{ f }}</div>
            </details>
          </td>
          <td data-label="Likeliest cause">{{ told(r.cause) || 'nothing known' }}</td>
          <td class="text-nowrap">
            <BButton
              size="sm"
              variant="outline-secondary"
              class="me-2"
              :aria-label="`Analyse the report of ${r.person}`"
              @click="lookInto(r)"
              >Analyse</BButton
            ><BButton
              class="alters"
              size="sm"
              variant="outline-secondary"
              :aria-label="`Close the report of ${r.person}`"
              @click="close(r.id)"
              >Close</BButton
            >
          </td>
        </tr>
      </tbody>
    </table>
  </section>
  <form class="columns" novalidate @submit.prevent="tell">
    <section class="panel" aria-labelledby="what">
      <h2 id="what">Code or log</h2>
      <Field
        v-model="draft.text"
        kind="note"
        label="Code or log"
        pointer="/text"
        placeholder="809"
        :help="
          'Windows, IKE, EAP, PPP, PPTP, L2TP, SSTP and TLS codes; logs of the usual daemons and ' +
          'of devices; the output of the diagnostic script.'
        "
      />
      <label class="form-label" for="log">Or a log file</label>
      <input
        id="log"
        class="form-control mb-2"
        type="file"
        @change="read(($event.target as HTMLInputElement).files)"
      />
    </section>
    <section class="panel" aria-labelledby="whose">
      <h2 id="whose">Profile concerned</h2>
      <ProfileField v-model="draft.profile_id" label="Profile" none="None: the usual causes" />
      <p class="soft small">
        With a profile, causes are ranked by what is on record: changed keys, the last probe
        results, who else connects.
      </p>
      <BButton type="submit" variant="primary" :disabled="busy">Explain</BButton>
      <div class="mt-2"><Notice :text="wrong" /></div>
    </section>
  </form>
  <section v-if="result" class="mt-4" aria-labelledby="causes" aria-live="polite">
    <h2 id="causes" ref="heading" tabindex="-1">
      {{ result.code ? `${result.code.name}: ${result.code.title}` : 'Causes' }}
    </h2>
    <div v-if="result.reading" class="panel mb-3">
      <p class="mb-1">
        {{ result.reading.lines === 1 ? '1 line' : `${result.reading.lines} lines` }} read,
        {{ result.reading.masked === 1 ? '1 secret' : `${result.reading.masked} secrets` }} masked.
        <template v-if="result.reading.since"
          >It has connected since then, on {{ exact(result.reading.since) }}.</template
        >
      </p>
      <template v-if="result.reading.first">
        <p class="mb-1">
          Line {{ result.reading.first.line }} ({{ result.reading.first.source }}) shows the cause:
        </p>
        <p class="mono small mb-1 said">{{ result.reading.first.text }}</p>
        <details v-if="(result.reading.events ?? []).length > 1">
          <summary>The whole attempt</summary>
          <ol class="small mono mb-0">
            <li
              v-for="(e, i) in result.reading.events ?? []"
              :key="i"
              class="said"
              :class="{ soft: !e.tells }"
            >
              {{ e.text }}
            </li>
          </ol>
        </details>
      </template>
    </div>
    <ul v-if="result.notes?.length" class="panel notes mb-3">
      <li v-for="n in result.notes" :key="n">{{ n }}</li>
    </ul>
    <p v-if="!result.causes?.length">
      Nothing is known about this. A longer part of the log may help.
    </p>
    <ol class="causes">
      <li v-for="(c, i) in (result.causes ?? []).slice(0, most)" :key="c.id" class="panel mb-3">
        <h3 class="h5">
          {{ told(c.title) }}
          <span v-if="i === 0" class="tag warning ms-2">likeliest</span>
          <span v-if="c.rebuild" class="tag plain ms-2">a rebuilt parcel fixes it</span>
        </h3>
        <ul v-if="c.reasons?.length || c.against?.length" class="mb-2">
          <li v-for="r in c.reasons ?? []" :key="r">{{ r }}</li>
          <li v-for="r in c.against ?? []" :key="r" class="soft">against it: {{ r }}</li>
        </ul>
        <dl class="mb-0">
          <dt>Confirm</dt>
          <dd>{{ told(c.confirm) }}</dd>
          <dt>Fix</dt>
          <dd class="said">{{ told(c.fix) }}</dd>
          <dt>Changes</dt>
          <dd class="mb-0">{{ told(c.changes) }}</dd>
        </dl>
      </li>
    </ol>
    <RouterLink v-if="draft.profile_id" :to="`/profiles/${draft.profile_id}`"
      >Open profile</RouterLink
    >
  </section>
</template>

<style scoped>
.causes {
  padding: 0;
  list-style: none;
}
.notes {
  padding-left: 2.5rem;
}
.said {
  overflow-wrap: anywhere;
}
dl {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0.25rem 1rem;
}
dt {
  font-weight: 600;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
@media (max-width: 576px) {
  dl {
    display: block;
  }
}
</style>
