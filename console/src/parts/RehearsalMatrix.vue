<script setup lang="ts">
// The last rehearsal of each gateway and protocol that it offers, by platform.
import { computed, onMounted, ref, watch } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Notice from './Notice.vue'
import Paging from './Paging.vue'
import TimeText from './TimeText.vue'
import { useChanges } from '../api/live'
import { offers } from './offers'
import { platformText } from './platforms'
import { usePage } from './usePage'
import { told } from '../told'

const known = ref<string[]>([])
const titles = Object.fromEntries(offers.map((o): [string, string] => [o.key, o.text]))
const size = 25
const page = usePage<Schemas['RehearsalRow']>(size, async (limit, offset, signal) => {
  const query = { limit, offset }
  const m = await ask(api.GET('/api/v1/rehearsal-matrix', { params: { query }, signal }))
  known.value = m.platforms
  return { items: m.rows, total: m.total, more: m.more }
})
const { number, total, wrong, look } = page
onMounted(look)
useChanges(['rehearsal'], () => void look())
watch(number, () => void look())

// Rows of one gateway stand together: the first bears its name.
const rows = computed(() => {
  const all = page.rows.value
  return all.map((row, i) => ({
    ...row,
    span:
      all[i - 1]?.gateway_id === row.gateway_id
        ? 0
        : all.filter((r) => r.gateway_id === row.gateway_id).length,
    of: Object.fromEntries(row.cells.map((c) => [c.platform, c])),
  }))
})
</script>

<template>
  <Notice :text="wrong" />
  <div v-if="rows.length" class="table-responsive" tabindex="0" role="region" aria-label="Matrix">
    <table class="grid-table">
      <thead>
        <tr>
          <th scope="col">Gateway</th>
          <th scope="col" class="protocol">Protocol</th>
          <th v-for="p in known" :key="p" scope="col">{{ platformText(p) }}</th>
          <th v-if="!known.length" scope="col">Devices</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in rows" :key="row.gateway_id + row.protocol">
          <th v-if="row.span" scope="rowgroup" :rowspan="row.span">
            <RouterLink :to="`/gateways/${row.gateway_id}`">{{ row.gateway }}</RouterLink>
          </th>
          <td class="text-nowrap protocol">{{ titles[row.protocol] }}</td>
          <td v-if="!row.cells.length" :colspan="Math.max(known.length, 1)" class="soft">
            Never rehearsed
          </td>
          <template v-else>
            <td v-for="p in known" :key="p">
              <template v-if="row.of[p]">
                <RouterLink
                  :to="`/profiles/${row.of[p].profile_id}`"
                  class="tag"
                  :class="row.of[p].state === 'passed' ? 'fine' : 'error'"
                  >{{ row.of[p].state }}</RouterLink
                >
                {{ ' ' }}
                <TimeText class="soft" :at="row.of[p].at" />
                <p v-if="row.of[p].failed_at" class="small mb-0">
                  {{ [row.of[p].failed_at, told(row.of[p].cause)].filter(Boolean).join(': ')
                  }}{{ row.of[p].place ? `, from ${row.of[p].place}` : '' }}
                </p>
                <p v-if="row.of[p].failed_at && row.of[p].passed" class="small soft mb-0">
                  last passed <TimeText :at="row.of[p].passed!" />
                </p>
              </template>
              <span v-else class="soft" aria-label="never rehearsed">–</span>
            </td>
          </template>
        </tr>
      </tbody>
    </table>
  </div>
  <Paging v-model="number" :size="size" :total="total" of="the matrix" />
  <p v-if="!rows.length && !page.busy.value && !wrong" class="soft">
    No gateways yet. <RouterLink to="/gateways/new">Add one</RouterLink>.
  </p>
</template>

<style scoped>
/* A row within a gateway begins with its protocol, which is not at the edge. */
.panel:not(.p-0) .grid-table .protocol {
  padding-left: 0.75rem;
}
</style>
