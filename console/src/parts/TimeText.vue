<script setup lang="ts">
// A moment as one speaks of it; which one it is exactly is said on hover.
import { computed } from 'vue'
import { exact, now, relative } from './times'

const props = defineProps<{ at: string }>()
const text = computed(() => relative(props.at, now.value))
const whole = computed(() => exact(props.at))
</script>

<template>
  <time :datetime="at" :title="whole" class="text-nowrap">{{ text }}</time>
</template>
