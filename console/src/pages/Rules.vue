<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import Paging from '../parts/Paging.vue'
import { useAddress } from '../parts/useAddress'
import { language, say } from '../words'

const rules = ref<Schemas['Rule'][]>([])
const search = useAddress('search')
const number = ref(1)
const size = 30
const wrong = ref('')
const done = ref('')
const severities = [
  { value: '', text: 'Default' },
  ...['error', 'warning', 'note', 'off'].map((v) => ({ value: v, text: v })),
]
async function set(r: Schemas['Rule'], severity: string) {
  try {
    const params = { path: { rule: r.code } }
    const body = { severity }
    r.set = (await ask(api.PUT('/api/v1/rules/{rule}/severity', { params, body }))).set
    wrong.value = ''
    done.value =
      `The severity of ${r.code} is now ${r.set || r.severity}; ` +
      `every profile is checked again.`
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
const fitting = computed(() => {
  const text = search.value.toLowerCase()
  return rules.value.filter((r) =>
    [r.code, r.title, say(r.title), r.why, say(r.why), r.plain, say(r.plain), r.fix, say(r.fix)]
      .join(' ')
      .toLowerCase()
      .includes(text),
  )
})
const shown = computed(() => fitting.value.slice((number.value - 1) * size, number.value * size))
watch(search, () => (number.value = 1))
onMounted(async () => {
  try {
    rules.value = (await ask(api.GET('/api/v1/rules'))).items
  } catch (e) {
    wrong.value = (e as Error).message
  }
})
</script>

<template>
  <PageHead title="Rules" />
  <p class="soft">
    What the checks find in profiles and files. An error prevents the build of a parcel, or its
    handover.
  </p>
  <div class="mb-3" style="max-width: 20rem">
    <label class="form-label" for="search">Search</label>
    <BFormInput id="search" v-model="search" type="search" />
  </div>
  <Notice :text="wrong" /><Notice :text="done" kind="done" />
  <p role="status" class="soft">
    {{ fitting.length }} {{ fitting.length === 1 ? 'rule' : 'rules' }}
  </p>
  <div class="panel p-0">
    <details v-for="r in shown" :key="r.code" class="rule" :open="fitting.length === 1">
      <summary>
        <span class="tag me-2" :class="r.set === 'off' ? 'plain' : r.set || r.severity">{{
          say(r.set || r.severity)
        }}</span>{{ say(r.title) }} <span class="mono soft small">{{ r.code }}</span>
      </summary>
      <div class="pt-2 clearfix">
        <p class="mb-1">{{ say(r.why) }} <strong>Fix:</strong> {{ say(r.fix) }}</p>
        <p class="mb-1"><strong>For the recipient:</strong> {{ say(r.plain) }}</p>
        <!-- What looks at handing over holds always. -->
        <div v-if="!r.fields.includes('handover')" class="float-end ms-3">
          <label class="visually-hidden" :for="`set-${r.code}`">Severity of {{ r.code }}</label>
          <BFormSelect
            :id="`set-${r.code}`"
            :model-value="r.set ?? ''"
            size="sm"
            :options="severities"
            @update:model-value="set(r, String($event))"
          />
        </div>
        <p class="soft small mb-0">
          <!-- The examples are in English. -->
          <span v-if="language === 'en'">Finds {{ r.bad.text }}; accepts {{ r.good.text }}. </span>
          <span>Source: {{ r.source }}.</span>
        </p>
      </div>
    </details>
  </div>
  <Paging v-model="number" :size="size" :total="fitting.length" of="rules" />
</template>

<style scoped>
.rule {
  padding: 0.5rem 1rem;
  border-bottom: 1px solid var(--wi-line);
}
.rule:last-child {
  border-bottom: 0;
}
</style>
