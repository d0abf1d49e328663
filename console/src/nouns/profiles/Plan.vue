<script setup lang="ts">
// What is planned for a profile, each choice with its reason.
import { computed, inject } from 'vue'
import type { Finding, Schemas } from '../../api/client'
import AgreementList from '../../parts/AgreementList.vue'
import ChainView from '../../parts/ChainView.vue'
import { offers } from '../../parts/offers'
import { tabs } from '../../parts/useTabs'
import { say } from '../../words'
import { told } from '../../told'

const props = defineProps<{ planned: Schemas['Planned'] }>()
const { show } = inject(tabs)!
const fields = computed(() => new Set(props.planned.choices.map((c) => c.field)))
// A finding stands beside the choice that it concerns; where nothing was set for its
// own field, beside the choice that its field belongs to.
const belongs: Record<string, string[]> = {
  password: ['keep'],
  realm: ['login', 'account'],
  login: ['account'],
  release: ['protocol'],
  platform: ['protocol'],
  routes: ['tunnel'],
  pool: ['routes', 'tunnel'],
  dns: ['tunnel'],
  domains: ['dns', 'tunnel'],
  behind_nat: ['server'],
  auth: ['protocol'],
  identity: ['auth', 'protocol'],
  authority: ['auth', 'protocol'],
  remote_id: ['server'],
  local_id: ['auth'],
  mppe: ['ppp'],
  port: ['server'],
  remotes: ['server'],
  control_key: ['remotes'],
  server_name: ['remotes', 'server'],
  min_tls: ['ciphers'],
  digest: ['ciphers'],
  ipv6: ['tunnel'],
  group: ['auth'],
  psk: ['auth'],
}
// What people have named stays as it is.
const named = ['name', 'account', 'login', 'identity', 'authority', 'server']
const asItIs = (c: { field: string; value: string }) =>
  named.includes(c.field) && c.value !== 'none'
const row = (f: Finding) =>
  [f.field, ...(belongs[f.field] ?? [])].find((field) => fields.value.has(field))
const beside = (field: string) => props.planned.findings.filter((f) => row(f) === field)
</script>

<template>
  <section class="panel mb-4" aria-labelledby="plan">
    <h2 id="plan" class="visually-hidden">Plan</h2>
    <dl class="plan mb-0">
      <div v-for="c in planned.choices" :key="c.field">
        <dt>{{ say(c.title) }}</dt>
        <dd>
          <span class="mono value">{{ asItIs(c) ? c.value : told(c.value) }}</span>
          <div class="soft small">{{ told(c.reason) }}</div>
          <button
            v-for="f in beside(c.field)"
            :key="f.rule + f.found"
            type="button"
            class="linklike d-block"
            @click="show('findings')"
          >
            <span class="tag" :class="f.severity">{{ say(f.severity) }}</span> {{ say(f.title) }}
          </button>
        </dd>
      </div>
    </dl>
    <template v-if="planned.agreements.length">
      <h3 class="fs-6 mt-3">Both sides negotiate</h3>
      <AgreementList :agreements="planned.agreements" />
    </template>
    <template v-if="planned.passed.length">
      <h3 class="fs-6 mt-3">Not chosen</h3>
      <ul class="mb-0">
        <li v-for="p in planned.passed" :key="p.protocol">
          {{ offers.find((o) => o.key === p.protocol)?.text }}:
          <span class="soft">{{ told(p.reason) }}</span>
        </li>
      </ul>
    </template>
  </section>

  <section v-if="planned.chains.length" class="panel mb-4" aria-labelledby="chains">
    <h2 id="chains">Certificates</h2>
    <details v-for="(links, i) in planned.chains" :key="i" :open="links.some((l) => l.fault)">
      <summary>Chain of {{ links[0]?.subject }}</summary>
      <ChainView class="mt-2" :links="links" />
    </details>
  </section>
</template>

<style scoped>
.plan > div {
  display: grid;
  grid-template-columns: 11rem minmax(0, 1fr);
  gap: 0.25rem 1rem;
  padding: 0.6rem 0;
  border-bottom: 1px solid var(--wi-line);
}
.plan > div:last-child {
  border: 0;
}
.plan dt {
  font-weight: 600;
}
.plan dd {
  margin: 0;
}
.plan .value {
  white-space: pre-wrap;
}
@media (max-width: 575px) {
  .plan > div {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
