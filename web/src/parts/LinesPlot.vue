<script setup lang="ts">
import { computed } from 'vue'

import type { Stretch } from '@/app/clock'

import PlotMarks from './PlotMarks.vue'
import { line, roundScale, slice, stretches } from './plot'

/** Several series in one chart, each a line; the first is in ink and heavier. Names stand at the ends by the caller. */
export interface Line {
  key: number
  starts: readonly string[]
  widthS: number
  values: readonly (number | null)[]
  colour: string
  /** How much later it is drawn than it was, for a window that is held against this one. */
  shift?: number
  isBefore?: boolean
}
const props = defineProps<{ lines: readonly Line[]; stretch: Stretch; unit: string; isBare?: boolean }>()
const scale = computed(() =>
  roundScale(props.lines.flatMap((one) => one.values.filter((value): value is number => value !== null))),
)
function y(value: number): number {
  return 100 - ((value - scale.value.low) / (scale.value.high - scale.value.low)) * 100
}
const drawn = computed(() =>
  props.lines.map((one) => ({
    ...one,
    path: stretches(one.values.length, (index) => one.values[index] !== null)
      .map((indices) =>
        line(
          indices.map((index): [number, number] => [
            slice(props.stretch, Date.parse(one.starts[index] ?? '') + (one.shift ?? 0), one.widthS * 1000).middle,
            y(one.values[index] ?? 0),
          ]),
        ),
      )
      .join(''),
  })),
)
</script>

<template>
  <div class="relative h-full w-full">
    <svg class="absolute inset-0 h-full w-full" viewBox="0 0 1000 100" preserveAspectRatio="none" aria-hidden="true">
      <g class="shapes">
        <path v-for="tick in scale.ticks" :key="tick" :d="`M0 ${y(tick)}H1000`" stroke="var(--rule)" />
        <path
          v-for="(one, index) in drawn"
          :key="`${one.key} ${one.isBefore}`"
          :d="one.path"
          fill="none"
          :stroke="one.colour"
          :stroke-width="index === 0 ? 2 : 1.3"
          :stroke-dasharray="one.isBefore ? '4 2.5' : undefined"
          stroke-linejoin="round"
          data-line
        />
        <path d="M0 100H1000" stroke="var(--rule-strong)" />
      </g>
    </svg>
    <PlotMarks v-if="!isBare" :ticks="scale.ticks" :unit="unit" :y="y" />
  </div>
</template>

<style scoped>
.shapes * {
  vector-effect: non-scaling-stroke;
}
</style>
