<script setup lang="ts">
// The tabs of a page: arrows, Home and End move between them.
import { computed, inject, nextTick, ref } from 'vue'
import { say } from '../words'
import { type Tab, tabs } from './useTabs'

const props = defineProps<{ label: string; of: Tab[] }>()
const { shown, show } = inject(tabs)!
const list = ref<HTMLElement>()
const all = computed(() => props.of.filter((t) => !t.off))
const at = computed(() =>
  Math.max(
    0,
    all.value.findIndex((t) => t.key === shown.value),
  ),
)

async function move(e: KeyboardEvent) {
  const n = all.value.length
  const to = { ArrowRight: at.value + 1, ArrowLeft: at.value - 1 + n, Home: 0, End: n - 1 }[e.key]
  if (to === undefined) return
  e.preventDefault()
  show(all.value[to % n]!.key)
  await nextTick()
  list.value?.querySelector<HTMLElement>('[aria-selected=true]')?.focus()
}
</script>

<template>
  <div ref="list" class="tab-list" role="tablist" :aria-label="label" @keydown="move">
    <button
      v-for="(t, i) in all"
      :id="`to-${t.key}`"
      :key="t.key"
      type="button"
      role="tab"
      :aria-selected="i === at"
      :aria-controls="`tab-${t.key}`"
      :tabindex="i === at ? 0 : -1"
      @click="show(t.key)"
    >
      {{ say(t.text) }}<span v-if="t.count" class="count">{{ t.count }}</span>
    </button>
  </div>
</template>

<style scoped>
.tab-list {
  display: flex;
  gap: 0.25rem;
  flex-wrap: wrap; /* none is out of sight on a phone */
  border-bottom: 1px solid var(--wi-line);
  margin-bottom: 1rem;
}
button {
  border: 0;
  border-bottom: 3px solid transparent;
  background: none;
  color: var(--wi-soft);
  padding: 0.45rem 0.8rem 0.35rem;
  white-space: nowrap;
}
button:hover {
  color: var(--wi-ink);
}
button:focus-visible {
  outline-offset: -3px;
}
button[aria-selected='true'] {
  border-bottom-color: var(--wi-lamp);
  color: var(--wi-ink);
  font-weight: 600;
}
.count {
  margin-left: 0.4rem;
  padding: 0 0.4rem;
  border-radius: 1rem;
  background: var(--wi-tint);
  font-size: 0.8rem;
}
</style>
