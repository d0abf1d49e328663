<script setup lang="ts">
// One finding, with the way to the record that it concerns.
import { computed } from 'vue'
import type { Finding } from '../api/client'
import { say } from '../words'
import { told } from '../told'

const props = defineProps<{ finding: Finding; person?: string }>()
const pages: Record<string, { at: string; text: string }> = {
  gateway: { at: '/gateways/', text: 'Open the gateway' },
  person: { at: '/people/', text: 'Open the person' },
  device: { at: '/devices/', text: 'Open the device' },
  pattern: { at: '/patterns/', text: 'Open the pattern' },
}
const link = computed(() => {
  const place = props.finding.place
  if (!place) return null
  if (place.noun === 'account' && props.person)
    return { to: `/people/${props.person}?tab=accounts`, text: 'Open the account' }
  const page = pages[place.noun]
  return page ? { to: page.at + place.id, text: page.text } : null
})
</script>

<template>
  <div class="finding" :class="finding.severity">
    <span class="tag" :class="finding.severity">{{ say(finding.severity) }}</span>
    <strong class="ms-2">{{ say(finding.title) }}</strong>
    <p class="mono">{{ told(finding.found) }}</p>
    <p>{{ say(finding.why) }}</p>
    <p>
      <strong>Fix:</strong> {{ told(finding.fix) }}
      <RouterLink v-if="link" :to="link.to">{{ say(link.text) }}</RouterLink>
    </p>
    <slot />
  </div>
</template>
