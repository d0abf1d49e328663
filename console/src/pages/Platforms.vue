<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import { offers } from '../parts/offers'
import { platformText } from '../parts/platforms'

const rows = ref<Schemas['Row'][]>([])
const chosen = ref('')
const wrong = ref('')
const tags: Record<string, string> = {
  gone: 'error',
  never: 'plain',
  rarely: 'warning',
  'built in': 'fine',
}
const row = computed(() => rows.value.find((r) => r.title === chosen.value))
const proofs = (key: string) => {
  const can = row.value?.can[key]
  if (!can) return ''
  const own = [...can.machine, ...can.ikev2, ...can.tls]
  return (own.length ? own : can.ppp).join(', ')
}
onMounted(async () => {
  try {
    rows.value = (await ask(api.GET('/api/v1/platforms'))).items
    chosen.value = rows.value[0]?.title ?? ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
})
</script>

<template>
  <PageHead title="Platforms" />
  <p class="soft">
    Protocol support by operating-system release. Choose one for details and sources.
  </p>
  <Notice :text="wrong" />
  <section v-if="rows.length" class="panel p-0 mb-4" aria-label="Protocols by release">
    <div class="wide" tabindex="0" role="region" aria-label="Table of platforms">
      <table class="grid-table stack">
        <thead>
          <tr>
            <th scope="col">Platform</th>
            <th v-for="p in offers" :key="p.key" scope="col">{{ p.text }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in rows" :key="r.title" :class="{ chosen: r.title === chosen }">
            <th scope="row">
              <button type="button" :aria-pressed="r.title === chosen" @click="chosen = r.title">
                {{ r.title }}
              </button>
            </th>
            <td v-for="p in offers" :key="p.key" :data-label="p.text">
              <span class="tag" :class="tags[r.can[p.key]?.support ?? ''] ?? 'note'">{{
                r.can[p.key]?.support
              }}</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
  <section v-if="row" class="panel" aria-labelledby="why" aria-live="polite">
    <h2 id="why">{{ row.title }}</h2>
    <p class="soft">{{ platformText(row.platform) }}, releases {{ row.releases.join(', ') }}</p>
    <dl class="mb-0">
      <template v-for="p in offers" :key="p.key">
        <dt>
          {{ p.text }}: {{ row.can[p.key]?.support
          }}<template v-if="row.can[p.key]?.note">; {{ row.can[p.key]?.note }}</template>
        </dt>
        <dd class="soft small">
          {{ row.can[p.key]?.source
          }}<template v-if="row.can[p.key]?.unconfirmed">; not verified</template>
          <div v-if="row.can[p.key]?.formats.length">
            takes: {{ row.can[p.key]?.formats.join(', ') }}
          </div>
          <div v-if="proofs(p.key)">authentication: {{ proofs(p.key) }}</div>
          <div v-if="row.can[p.key]?.ike.length" class="mono">
            default proposals: IKE {{ row.can[p.key]?.ike.join(', ') }}; ESP
            {{ row.can[p.key]?.esp.join(', ') }}
          </div>
        </dd>
      </template>
    </dl>
  </section>
</template>

<style scoped>
.wide {
  overflow-x: auto;
}
.wide th[scope='row'] {
  color: inherit;
  border-bottom: 1px solid var(--wi-line);
  white-space: normal;
}
.wide .tag {
  white-space: normal;
}
.wide th button {
  text-align: left;
  text-decoration: underline;
  color: rgba(var(--bs-link-color-rgb), 1);
}
.chosen {
  background: var(--wi-tint);
}
</style>
