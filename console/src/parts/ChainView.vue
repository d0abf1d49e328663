<script setup lang="ts">
// A chain of certificates from the leaf up, so that the link at fault is seen.
import type { Schemas } from '../api/client'
import { day } from './times'

defineProps<{ links: Schemas['Link'][]; against?: string[]; empty?: string }>()
const usages: Record<string, string> = {
  authority: 'authority',
  server: 'gateway',
  client: 'device',
  signing: 'signing',
  any: 'any use',
}
</script>

<template>
  <p v-if="links.length === 0" class="soft mb-0">{{ empty ?? 'There is no certificate.' }}</p>
  <template v-else>
    <ol class="chain" aria-label="Chain of certificates, from the leaf up">
      <li
        v-for="l in links"
        :key="l.serial + l.subject"
        :class="{ fault: l.fault, missing: l.missing }"
      >
        <div class="d-flex flex-wrap gap-2 align-items-baseline">
          <strong>{{ l.subject || 'without a name' }}</strong>
          <span class="tag plain">{{ usages[l.usage] }}</span>
          <span v-if="!l.missing" class="soft small"
            >{{ l.key }}, {{ day(l.from) }} to {{ day(l.to) }}</span
          >
        </div>
        <div v-if="l.names.length" class="mono small">{{ l.names.join(', ') }}</div>
        <div v-if="l.fault" class="why"><span aria-hidden="true">✗ </span>{{ l.fault }}</div>
        <div v-else class="soft small">
          <span aria-hidden="true">✓ </span>{{ l.root ? 'self-signed' : `signed by ${l.issuer}` }}
        </div>
      </li>
    </ol>
    <p v-if="against?.length" class="soft small mb-0">Verified against {{ against.join(', ') }}.</p>
  </template>
</template>
