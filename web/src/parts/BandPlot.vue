<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import type { Stretch } from '@/app/clock'
import { clock, inWords, written } from '@/app/format'

import PlotMarks from './PlotMarks.vue'
import { across, line, roundScale, slice, stretches, type Band } from './plot'

/** The main quantity over time: median line, p5 to p95 band, limits as dots, failed runs as feet, gaps hatched. */
const props = defineProps<{
  series: Band
  stretch: Stretch
  limits: readonly Shapes['LimitShape'][]
  main: string
  /** What is usual at each hour, drawn as a band behind. */
  usual?: Shapes['UsualShape'] | undefined
  /** The comparison window's series, drawn over this one at the same distance from its start. */
  before?: Band | undefined
  isSmall?: boolean
  /** Too low for words: limits as dots alone. */
  isBare?: boolean
}>()
const HEIGHT = 100

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
/* Words of two limits that lie close would stand on each other: the milder one is then a line alone. */
const named = computed(() => {
  const [worse, milder] = levels.value
  if (!worse || !milder) return levels.value
  return Math.abs(y(worse.level) - y(milder.level)) < (props.isSmall ? 20 : 11) ? [worse] : levels.value
})
const scale = computed(() => {
  const values = [...props.series.p5, ...props.series.p95, ...(props.before?.p50 ?? [])].filter(
    (value) => value !== null,
  )
  const top = Math.max(...values)
  // A limit or a usual level far above what is measured would press the line flat: it is then told in words only.
  const beside = [...levels.value.map((one) => one.level), ...(props.usual?.low ?? []), ...(props.usual?.high ?? [])]
  return roundScale([
    ...values,
    ...beside.filter((level): level is number => level !== null && level >= 0 && level <= top * 2.2),
  ])
})
function y(value: number): number {
  return HEIGHT - ((value - scale.value.low) / (scale.value.high - scale.value.low)) * HEIGHT
}
function place(index: number): { from: number; middle: number; to: number } {
  return slice(props.stretch, starts.value[index] ?? 0, width.value)
}

const HOUR = 3_600_000
/* Flat over each hour, as it is known; only where it is known. */
const usualBand = computed(() => {
  const told = props.usual
  if (!told) return ''
  return told.starts
    .map((start, index) => {
      const [low, high] = [told.low[index], told.high[index]]
      if (low == null || high == null) return ''
      const { from, to } = slice(props.stretch, Date.parse(start), HOUR)
      const [top, bottom] = [y(high), y(Math.max(low, 0))].map((one) => Math.min(HEIGHT, Math.max(0, one)))
      return to > from ? `M${from.toFixed(1)} ${top}H${to.toFixed(1)}V${bottom}H${from.toFixed(1)}Z` : ''
    })
    .join('')
})

const pieces = computed(() =>
  stretches(starts.value.length, (index) => props.series.p50[index] !== null).map((indices) => {
    const at = (values: readonly (number | null)[]) =>
      indices.map((index): [number, number] => [place(index).middle, y(values[index] ?? 0)])
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
const ghost = computed(() => {
  const then = props.before
  if (!then) return ''
  const shift = Date.parse(props.series.window.from) - Date.parse(then.window.from)
  const at = (index: number): [number, number] => [
    slice(props.stretch, Date.parse(then.starts[index] ?? '') + shift, then.width_s * 1000).middle,
    y(then.p50[index] ?? 0),
  ]
  return stretches(then.starts.length, (index) => then.p50[index] !== null)
    .map((indices) => line(indices.map(at)))
    .join('')
})
const changes = computed(() =>
  (props.series.changes ?? []).map((one) => ({
    ...one,
    x: across(props.stretch)(Date.parse(one.time)),
    told: `${one.what === 'level' ? 'its level' : 'how far it spreads'} changed at ${clock(Date.parse(one.time))}: ${written(one.before, props.series.unit).figure} before, ${inWords(one.after, props.series.unit)} after`,
  })),
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
      const from = place(indices[0] ?? 0).from
      return { from, width: place(indices.at(-1) ?? 0).to - from }
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
        <path v-if="usualBand" :d="usualBand" fill="var(--usual)" data-usual />
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
        <path
          v-if="ghost"
          :d="ghost"
          fill="none"
          stroke="var(--ghost)"
          stroke-width="1.3"
          stroke-dasharray="4 2.5"
          data-before
        />
        <path :d="`M0 ${HEIGHT}H1000`" stroke="var(--rule-strong)" />
        <path
          v-for="index in feet"
          :key="index"
          :d="`M${place(index).middle} ${HEIGHT}v-12`"
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
      <i
        v-for="one in changes"
        :key="one.time"
        class="absolute -top-1 h-2 w-[5px] -translate-x-1/2 border-l-2 border-ink"
        :class="{ 'border-dotted': one.what === 'spread' }"
        :style="{ left: `${one.x / 10}%` }"
        :title="one.told"
        role="img"
        :aria-label="one.told"
        data-change
      />
    </template>
    <template v-if="!isSmall">
      <PlotMarks :ticks="scale.ticks" :unit="series.unit" :y="y" />
    </template>
    <template v-for="one in named" :key="one.name">
      <span
        v-if="!isBare && one.level <= scale.high && one.level >= scale.low"
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
