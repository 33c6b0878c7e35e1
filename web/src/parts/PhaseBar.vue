<script setup lang="ts">
import { computed } from 'vue'

import { inWords, written } from '@/app/format'

import { phaseColour, phaseLabel } from './phases'

/** Phases of one run, stacked in order on a given scale; the limit is dotted. */
const props = defineProps<{
  phases: readonly string[]
  values: Readonly<Record<string, number>>
  most: number
  limit?: number | null
  isLarge?: boolean
}>()
const pieces = computed(() => {
  let left = 0
  return props.phases.map((name) => {
    const value = props.values[name] ?? 0
    const piece = { name, value, left: (left / props.most) * 100, width: (value / props.most) * 100 }
    left += value
    return piece
  })
})
const spoken = computed(() =>
  pieces.value.map((one) => `${phaseLabel(one.name)} ${inWords(one.value, 'ms')}`).join(', '),
)
</script>

<template>
  <div class="relative w-full" :class="isLarge ? 'h-[15px]' : 'h-2'" role="img" :aria-label="spoken" :title="spoken">
    <i
      v-for="piece in pieces"
      :key="piece.name"
      class="absolute inset-y-0 overflow-hidden text-center text-1 leading-[15px] not-italic"
      :style="{
        left: `${piece.left}%`,
        width: `${piece.width}%`,
        background: phaseColour(piece.name),
        color: piece.name === 'first_byte' ? 'var(--on-accent)' : 'var(--ink)',
      }"
      >{{ isLarge && piece.width > 9 ? written(piece.value, 'ms').figure : '' }}</i
    >
    <i
      v-if="limit != null && limit <= most"
      class="absolute -inset-y-0.5 border-l border-dotted border-breached"
      :style="{ left: `${(limit / most) * 100}%` }"
    />
  </div>
</template>
