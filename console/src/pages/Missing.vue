<script setup lang="ts">
import PageHead from '../parts/PageHead.vue'
</script>

<template>
  <PageHead title="No such page" />
  <p>There is no page at this address. <RouterLink to="/">Go to the overview</RouterLink>.</p>
</template>
