<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import type { Stretch } from '@/app/clock'
import { written } from '@/app/format'

import { phaseColour } from './phases'
import { roundScale, slice, stretches } from './plot'

/** Phase means over time, stacked in order: they add up to the mean of the whole. */
const props = defineProps<{ series: Shapes['SeriesShape']; phases: readonly string[]; stretch: Stretch }>()
const HEIGHT = 100

const starts = computed(() => props.series.starts.map((start) => Date.parse(start)))
const sums = computed(() =>
  starts.value.map((_, index) =>
    props.phases.reduce<number[]>(
      (all, name) => [...all, (all.at(-1) ?? 0) + (props.series.phases[name]?.[index] ?? 0)],
      [],
    ),
  ),
)
const has = (index: number) => props.phases.some((name) => props.series.phases[name]?.[index] != null)
const scale = computed(() => {
  const found = roundScale(sums.value.map((one) => one.at(-1) ?? 0))
  return { ...found, low: 0 }
})
const areas = computed(() => {
  const y = (value: number) => HEIGHT - (value / scale.value.high) * HEIGHT
  return stretches(starts.value.length, has).flatMap((indices) =>
    props.phases.map((name, phase) => {
      // A slice that stands alone is drawn as wide as it is.
      const points = indices.flatMap((index) => {
        const { from, middle, to } = slice(props.stretch, starts.value[index] ?? 0, props.series.width_s * 1000)
        return (indices.length === 1 ? [from, to] : [middle]).map((px) => ({ px, sums: sums.value[index] ?? [] }))
      })
      const upper = points.map(({ px, sums }) => `${px.toFixed(1)} ${y(sums[phase] ?? 0).toFixed(1)}`)
      const lower = points.map(({ px, sums }) => `${px.toFixed(1)} ${y(phase ? (sums[phase - 1] ?? 0) : 0).toFixed(1)}`)
      return {
        key: `${indices[0]}-${name}`,
        path: `M${upper.join('L')}L${lower.reverse().join('L')}Z`,
        colour: phaseColour(name),
      }
    }),
  )
})
</script>

<template>
  <svg
    class="absolute inset-0 h-full w-full"
    :viewBox="`0 0 1000 ${HEIGHT}`"
    preserveAspectRatio="none"
    aria-hidden="true"
  >
    <path v-for="area in areas" :key="area.key" :d="area.path" :fill="area.colour" />
    <path :d="`M0 ${HEIGHT}H1000`" stroke="var(--rule-strong)" vector-effect="non-scaling-stroke" />
  </svg>
  <span
    v-for="tick in scale.ticks.slice(-1)"
    :key="tick"
    class="absolute right-0 -translate-y-1/2 bg-ground pl-[3px] text-1 leading-3 text-ink-3"
    :style="{ top: `${100 - (tick / scale.high) * 100}%` }"
    >{{ written(tick, series.unit).figure }}</span
  >
</template>
