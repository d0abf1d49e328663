<script setup lang="ts">
// Says before a link is made that people could not open it.
import { onMounted, ref } from 'vue'
import { api, ask } from '../api/client'

const problem = ref('')
onMounted(async () => {
  try {
    problem.value = (await ask(api.GET('/api/v1/organisation'))).links_problem ?? ''
  } catch {
    problem.value = '' // the page itself tells what does not answer
  }
})
</script>

<template>
  <p v-if="problem" class="finding warning" role="note">
    People could not open a link: {{ problem }}.
    <RouterLink to="/organisation">Set the public URL</RouterLink>
  </p>
</template>
