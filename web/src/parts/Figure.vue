<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import { inWords, written } from '@/app/format'

/** A statistic: its figure and unit; the interval, sample count and method on hover. Too few samples are said. */
const props = defineProps<{ of: Shapes['Figure']; withoutUnit?: boolean }>()
const text = computed(() => written(props.of.value, props.of.unit))
const hover = computed(() => {
  const { low, high, unit, count, method } = props.of
  if (props.of.value === null) return `No sample. ${method}`
  const ends =
    low === null || high === null
      ? 'the sample cannot bound it on both sides'
      : `${inWords(low, unit)} to ${inWords(high, unit)}`
  return `95 % interval: ${ends}. ${count.toLocaleString('en-GB')} samples${props.of.is_few ? ', too few to say' : ''}. ${method}.`
})
</script>

<template>
  <span :title="hover" class="whitespace-nowrap" :class="{ 'text-ink-3 italic': of.is_few && of.value !== null }"
    >{{ text.figure }}<span v-if="text.unit && !withoutUnit" class="unit">{{ text.unit }}</span></span
  >
</template>
