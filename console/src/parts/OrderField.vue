<script setup lang="ts">
// An ordered choice out of a few things: taken ones above, in their order, the rest below.
import { computed } from 'vue'

const props = defineProps<{
  label: string
  choices: { value: string; text: string }[]
  none: string
  help?: string
}>()
const model = defineModel<string[]>({ required: true })
const rest = computed(() => props.choices.filter((c) => !model.value.includes(c.value)))
const text = (value: string) => props.choices.find((c) => c.value === value)?.text ?? value

function up(i: number) {
  const list = [...model.value]
  const [one] = list.splice(i, 1)
  list.splice(i - 1, 0, one!)
  model.value = list
}
</script>

<template>
  <fieldset class="mb-3">
    <legend class="form-label fs-6">{{ label }}</legend>
    <ol v-if="model.length" class="taken">
      <li v-for="(v, i) in model" :key="v">
        <span>{{ text(v) }}</span>
        <BButton
          v-if="i > 0"
          type="button"
          size="sm"
          variant="outline-secondary"
          :aria-label="`Move ${text(v)} up`"
          @click="up(i)"
          >↑</BButton
        >
        <BButton
          type="button"
          size="sm"
          variant="outline-secondary"
          :aria-label="`Leave ${text(v)} out`"
          @click="model = model.filter((one) => one !== v)"
          >×</BButton
        >
      </li>
    </ol>
    <p v-else class="soft mb-1">{{ none }}</p>
    <div class="d-flex flex-wrap gap-2">
      <BButton
        v-for="c in rest"
        :key="c.value"
        type="button"
        size="sm"
        variant="outline-secondary"
        @click="model = [...model, c.value]"
        >+ {{ c.text }}</BButton
      >
    </div>
    <div v-if="help" class="form-text">{{ help }}</div>
  </fieldset>
</template>

<style scoped>
.taken {
  padding-left: 1.4rem;
  margin-bottom: 0.4rem;
}
.taken li {
  margin: 0.2rem 0;
}
.taken li > span {
  display: inline-block;
  min-width: 8rem;
}
.taken .btn {
  margin-left: 0.35rem;
}
</style>
