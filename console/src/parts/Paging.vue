<script setup lang="ts">
/** The pages of a list that the service keeps, where there are several. */
defineProps<{ size: number; total: number; more?: boolean; of: string }>()
const number = defineModel<number>({ required: true })
</script>

<template>
  <BPagination
    v-if="total > size"
    v-model="number"
    class="mt-3"
    :total-rows="more ? total + size : total"
    :per-page="size"
    :aria-label="`Pages of ${of}`"
  />
</template>
