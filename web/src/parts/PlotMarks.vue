<script setup lang="ts">
import { marks } from '@/app/format'

/** The words of a plot's grid lines, at its right edge. */
defineProps<{ ticks: readonly number[]; unit: string; y: (value: number) => number }>()
</script>

<template>
  <span
    v-for="(tick, index) in ticks"
    :key="tick"
    class="absolute right-0 -translate-y-1/2 bg-ground pl-[3px] text-1 leading-3 text-ink-3"
    :style="{ top: `${y(tick)}%` }"
    >{{ marks(ticks, unit)[index] }}</span
  >
</template>
