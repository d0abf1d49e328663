<script setup lang="ts">
// The files of a profile as they would be built now; secrets are hidden until they are asked for.
import { computed, onMounted, ref, watch } from 'vue'
import { api, ask, type Schemas, ServiceError } from '../../api/client'
import Notice from '../../parts/Notice.vue'
import { told } from '../../told'

const props = defineProps<{ id: string; stamp: number }>()
const byHand = defineModel<boolean>('byHand', { required: true })
const files = ref<Schemas['ShownFile'][]>([])
const name = ref('')
const revealed = ref(false)
const unfit = ref('')

async function preview() {
  const params = { path: { id: props.id }, query: { by_hand: byHand.value } }
  unfit.value = ''
  try {
    const call = revealed.value
      ? api.POST('/api/v1/profiles/{id}/secret-preview', { params })
      : api.GET('/api/v1/profiles/{id}/preview', { params })
    files.value = (await ask<Schemas['ItemsShownFile']>(call)).items
    if (!files.value.some((f) => f.name === name.value)) name.value = files.value[0]?.name ?? ''
  } catch (e) {
    files.value = []
    unfit.value =
      e instanceof ServiceError && e.findings[0]
        ? `${told(e.findings[0].found)}. ${told(e.findings[0].fix)}`
        : (e as Error).message
  }
}
onMounted(preview)
watch([byHand, revealed, () => props.stamp], preview)
const shown = computed(() => files.value.find((f) => f.name === name.value))
</script>

<template>
  <section class="panel mb-4" aria-labelledby="files">
    <div class="d-flex flex-wrap gap-3 align-items-center mb-2">
      <h2 id="files" class="mb-0">Files</h2>
      <BFormCheckbox v-model="byHand" switch>Card for manual setup</BFormCheckbox>
      <BButton
        class="alters ms-auto"
        size="sm"
        variant="outline-secondary"
        :aria-pressed="revealed"
        @click="revealed = !revealed"
        >{{ revealed ? 'Hide secrets' : 'Show secrets (recorded in the audit log)' }}</BButton
      >
    </div>
    <Notice :text="unfit" />
    <template v-if="shown">
      <div class="d-flex flex-wrap gap-2 mb-2" role="group" aria-label="File format">
        <BButton
          v-for="f in files"
          :key="f.name"
          size="sm"
          :variant="f.name === name ? 'primary' : 'outline-secondary'"
          :aria-pressed="f.name === name"
          @click="name = f.name"
          >{{ f.name }}</BButton
        >
      </div>
      <p class="soft small mb-2">{{ shown.purpose }}</p>
      <iframe
        v-if="shown.name.endsWith('.html')"
        class="card-frame"
        sandbox=""
        :srcdoc="shown.text"
        title="Card as the person sees it"
      />
      <pre v-else class="file mono" tabindex="0" :aria-label="`Content of ${shown.name}`">{{
        shown.text
      }}</pre>
    </template>
  </section>
</template>

<style scoped>
.card-frame {
  width: 100%;
  height: 34rem;
  border: 1px solid var(--wi-line);
  border-radius: 0.5rem;
  background: #fff;
}
</style>
