<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import ChainView from '../parts/ChainView.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import RevokePanel from '../parts/RevokePanel.vue'
import { save } from '../parts/files'
import { day } from '../parts/times'

const props = defineProps<{ id: string }>()
const row = ref<Schemas['CertificateRow']>()
const chain = ref<Schemas['Chain']>()
const wrong = ref('')

async function look() {
  try {
    row.value = await ask(
      api.GET('/api/v1/certificates/{id}', { params: { path: { id: props.id } } }),
    )
    const path = { noun: 'certificate' as const, id: props.id }
    chain.value = await ask(api.GET('/api/v1/chains/{noun}/{id}', { params: { path } }))
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
onMounted(look)
</script>

<template>
  <PageHead :title="row?.subject ?? 'Certificate'" back="/certificates" back-text="Certificates">
    <template v-if="row">
      <BButton
        size="sm"
        variant="outline-secondary"
        @click="save(row.subject + '.pem', row.pem, true)"
        >Download</BButton
      >
      <RevokePanel v-if="!row.revoked" :id="row.id" :name="row.subject" @revoked="look" />
    </template>
  </PageHead>
  <Notice :text="wrong" />
  <div v-if="row" class="columns">
    <section class="panel mb-4" aria-labelledby="facts">
      <h2 id="facts">Fields</h2>
      <dl class="facts mb-0">
        <dt>For</dt>
        <dd>
          <RouterLink v-if="row.device_id" :to="`/devices/${row.device_id}`">{{
            row.device
          }}</RouterLink>
          <RouterLink v-else-if="row.gateway_id" :to="`/gateways/${row.gateway_id}`">{{
            row.gateway
          }}</RouterLink>
          <template v-else>{{ row.subject }}</template>
        </dd>
        <dt>Names</dt>
        <dd class="mono">{{ row.names.join(', ') || 'none' }}</dd>
        <dt>Serial number</dt>
        <dd class="mono">{{ row.serial }}</dd>
        <dt>Valid</dt>
        <dd>{{ day(row.from) }} to {{ day(row.to) }}</dd>
        <dt>Issued</dt>
        <dd>{{ day(row.created) }} by {{ row.operator }}</dd>
        <dt>Authority</dt>
        <dd>
          <RouterLink :to="`/authorities/${row.authority_id}`">{{ row.authority }}</RouterLink>
        </dd>
        <template v-if="row.revoked">
          <dt>Revoked</dt>
          <dd>{{ day(row.revoked) }}, {{ row.reason }}</dd>
        </template>
      </dl>
    </section>
    <section class="panel mb-4" aria-labelledby="chain">
      <h2 id="chain">Chain</h2>
      <ChainView v-if="chain" :links="chain.links" :against="chain.against" />
    </section>
  </div>
</template>
