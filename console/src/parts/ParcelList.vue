<script setup lang="ts">
// The parcels of a profile: building one, and fetching its files.
import { onMounted, ref, watch } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Notice from './Notice.vue'
import { exact } from './times'

const props = defineProps<{ id: string; blocked: boolean; byHand: boolean; stamp: number }>()
const emit = defineEmits<{ changed: [] }>()
const parcels = ref<Schemas['Parcel'][]>([])
const wrong = ref('')
const busy = ref(false)
const path = { path: { id: props.id } }

async function list() {
  parcels.value = (await ask(api.GET('/api/v1/profiles/{id}/parcels', { params: path }))).items
}
onMounted(list)
watch(() => props.stamp, list)

async function build() {
  busy.value = true
  wrong.value = ''
  try {
    await ask(
      api.POST('/api/v1/profiles/{id}/parcels', { params: path, body: { by_hand: props.byHand } }),
    )
    await list()
    emit('changed')
  } catch (e) {
    wrong.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <section class="panel mb-4" aria-labelledby="parcels">
    <div class="d-flex flex-wrap gap-3 align-items-center mb-2">
      <h2 id="parcels" class="mb-0">Parcels</h2>
      <BButton
        class="alters"
        size="sm"
        variant="primary"
        :disabled="busy || blocked"
        @click="build"
        >{{ byHand ? 'Build the card' : 'Build a parcel' }}</BButton
      >
      <span v-if="blocked" class="soft">Errors prevent the build; fix them first.</span>
    </div>
    <Notice :text="wrong" />
    <p v-if="parcels.length === 0" class="mb-0 soft">No parcels yet.</p>
    <table v-else class="grid-table stack">
      <thead>
        <tr>
          <th scope="col">Built</th>
          <th scope="col">State</th>
          <th scope="col">Files</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in parcels" :key="p.id">
          <td>{{ exact(p.built) }}</td>
          <td>
            <span v-if="p.outdated" class="tag warning">outdated</span
            ><span v-else class="tag fine">current</span>
          </td>
          <td>
            <span v-if="p.removed" class="soft"
              >removed on {{ exact(p.removed) }}; its digest is kept</span
            >
            <div v-for="f in p.removed ? [] : p.files" :key="f.name">
              <a
                :href="`/api/v1/parcels/${p.id}/files/${encodeURIComponent(f.name)}`"
                :download="f.name"
                >{{ f.name }}</a
              >
            </div>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
