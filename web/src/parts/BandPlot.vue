<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import type { Stretch } from '@/app/clock'
import { written } from '@/app/format'

import { across, line, roundScale, stretches } from './plot'

/** The main quantity over time: median line, p5 to p95 band, limits as dots, failed runs as feet, gaps hatched. */
const props = defineProps<{
  series: Shapes['SeriesShape']
  stretch: Stretch
  limits: readonly Shapes['LimitShape'][]
  main: string
  isSmall?: boolean
}>()
const HEIGHT = 100

const x = computed(() => across(props.stretch))
const starts = computed(() => props.series.starts.map((start) => Date.parse(start)))
const width = computed(() => props.series.width_s * 1000)
const own = computed(() => props.limits.find((limit) => limit.quantity === props.main))
const levels = computed(() => {
  const found: { name: string; level: number; ink: string; stroke: string }[] = []
  if (own.value?.breached != null)
    found.push({ name: 'breached', level: own.value.breached, ink: 'text-breached-ink', stroke: 'var(--breached)' })
  if (own.value?.degraded != null)
    found.push({ name: 'degraded', level: own.value.degraded, ink: 'text-degraded-ink', stroke: 'var(--degraded)' })
  return found
})
const scale = computed(() => {
  const values = [...props.series.p5, ...props.series.p95].filter((value) => value !== null)
  const top = Math.max(...values)
  // A limit far above what is measured would press the line flat: it is then told in words only.
  return roundScale([...values, ...levels.value.map((one) => one.level).filter((level) => level <= top * 2.2)])
})
function y(value: number): number {
  return HEIGHT - ((value - scale.value.low) / (scale.value.high - scale.value.low)) * HEIGHT
}
function middle(index: number): number {
  return x.value((starts.value[index] ?? 0) + width.value / 2)
}

const pieces = computed(() =>
  stretches(starts.value.length, (index) => props.series.p50[index] !== null).map((indices) => {
    const at = (values: readonly (number | null)[]) =>
      indices.map((index): [number, number] => [middle(index), y(values[index] ?? 0)])
    const upper = at(props.series.p95)
    return {
      key: indices[0],
      median: indices.length > 1 ? line(at(props.series.p50)) : '',
      dot: indices.length === 1 ? at(props.series.p50)[0] : undefined,
      upper: line(upper),
      band: `${line(upper)}L${at(props.series.p5)
        .reverse()
        .map(([px, py]) => `${px.toFixed(1)} ${py.toFixed(1)}`)
        .join('L')}Z`,
    }
  }),
)
const feet = computed(() =>
  starts.value.map((_, index) => index).filter((index) => (props.series.failed[index] ?? 0) > 0),
)
const gaps = computed(() => {
  const last = starts.value.length - 1
  return stretches(
    starts.value.length,
    // The newest slice is still filling; three slices without anything are a gap, not jitter of the schedule.
    (index) => index < last && props.series.counts[index] === 0 && props.series.failed[index] === 0,
  )
    .filter((indices) => indices.length >= 3)
    .map((indices) => {
      const from = Math.max(0, x.value(starts.value[indices[0] ?? 0] ?? 0))
      return { from, width: x.value((starts.value[indices.at(-1) ?? 0] ?? 0) + width.value) - from }
    })
})
</script>

<template>
  <div class="relative h-full w-full">
    <svg
      class="absolute inset-0 h-full w-full"
      :viewBox="`0 0 1000 ${HEIGHT}`"
      preserveAspectRatio="none"
      aria-hidden="true"
    >
      <g class="shapes">
        <template v-if="!isSmall">
          <path v-for="tick in scale.ticks" :key="tick" :d="`M0 ${y(tick)}H1000`" stroke="var(--rule)" />
        </template>
        <path v-for="piece in pieces" :key="piece.key" :d="piece.band" fill="var(--line)" opacity="0.15" />
        <path
          v-for="piece in pieces"
          :key="piece.key"
          :d="piece.upper"
          fill="none"
          stroke="var(--line)"
          stroke-width="0.6"
          opacity="0.6"
        />
        <template v-for="one in levels" :key="one.name">
          <path
            v-if="one.level <= scale.high && one.level >= scale.low"
            :d="`M0 ${y(one.level)}H1000`"
            fill="none"
            :stroke="one.stroke"
            stroke-dasharray="1 3"
            stroke-linecap="round"
          />
        </template>
        <path
          v-for="piece in pieces"
          :key="piece.key"
          :d="piece.median"
          fill="none"
          stroke="var(--line)"
          stroke-width="1.5"
          stroke-linejoin="round"
        />
        <path :d="`M0 ${HEIGHT}H1000`" stroke="var(--rule-strong)" />
        <path
          v-for="index in feet"
          :key="index"
          :d="`M${middle(index)} ${HEIGHT}v-12`"
          stroke="var(--breached)"
          stroke-width="2.4"
        />
      </g>
    </svg>
    <template v-for="piece in pieces" :key="piece.key">
      <i
        v-if="piece.dot"
        class="absolute -mt-[2px] -ml-[2px] size-1 rounded-full bg-line"
        :style="{ left: `${piece.dot[0] / 10}%`, top: `${piece.dot[1]}%` }"
      />
    </template>
    <div
      v-for="gap in gaps"
      :key="gap.from"
      class="hatched absolute inset-y-0"
      :style="{ left: `${gap.from / 10}%`, width: `${gap.width / 10}%` }"
      title="no result"
    />
    <template v-if="!isSmall">
      <span
        v-for="tick in scale.ticks"
        :key="tick"
        class="absolute right-0 -translate-y-1/2 bg-ground pl-[3px] text-1 leading-3 text-ink-3"
        :style="{ top: `${y(tick)}%` }"
        >{{ written(tick, series.unit).figure }}</span
      >
    </template>
    <template v-for="one in levels" :key="one.name">
      <span
        v-if="one.level <= scale.high && one.level >= scale.low"
        class="absolute left-0 -translate-y-full text-1 leading-[13px]"
        :class="one.ink"
        :style="{ top: `${y(one.level)}%` }"
        >{{ one.name }} {{ written(one.level, series.unit).figure }}</span
      >
    </template>
  </div>
</template>

<style scoped>
.shapes * {
  vector-effect: non-scaling-stroke;
}
</style>
