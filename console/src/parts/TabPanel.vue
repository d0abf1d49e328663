<script setup lang="ts">
// What a tab shows. What is typed in it stays while another one is shown.
import { inject } from 'vue'
import { tabs } from './useTabs'

defineProps<{ of: string }>()
const { shown } = inject(tabs)!
</script>

<template>
  <div
    v-show="shown === of"
    :id="`tab-${of}`"
    role="tabpanel"
    :data-tab="of"
    :aria-labelledby="`to-${of}`"
  >
    <slot />
  </div>
</template>
