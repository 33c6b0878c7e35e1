<script setup lang="ts">
import { computed } from 'vue'

/** A small line without axes. */
const props = defineProps<{ values: readonly number[]; label: string }>()
const path = computed(() => {
  const top = Math.max(1, ...props.values)
  const last = Math.max(1, props.values.length - 1)
  return props.values
    .map(
      (value, index) =>
        `${index ? 'L' : 'M'}${((index / last) * 1000).toFixed(1)} ${(15 - (value / top) * 13).toFixed(1)}`,
    )
    .join('')
})
</script>

<template>
  <svg class="block h-full w-full" viewBox="0 0 1000 16" preserveAspectRatio="none" role="img" :aria-label="label">
    <path :d="path" fill="none" stroke="var(--line)" stroke-width="1.4" vector-effect="non-scaling-stroke" />
  </svg>
</template>
