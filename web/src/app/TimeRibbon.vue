<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, useTemplateRef } from 'vue'

import { api, answered } from '@/api/client'

import { useClock, type Stretch } from './clock'
import { clock, dayShort, moment } from './format'
import { ribbonTicks } from './ticks'

const EDGE = 8
const clockwork = useClock()
const { ribbon, window: chosen, now, instant, span } = clockwork
const box = useTemplateRef<HTMLElement>('box')

/* The span moves with now; what is drawn of it is asked for again every half minute only. */
const asked = computed(() => ({ to: Math.ceil(ribbon.value.to / 30_000) * 30_000, length: span.value.length }))
const query = useQuery({
  queryKey: ['ribbon', asked],
  queryFn: () =>
    answered(
      api.GET('/api/ribbon', {
        params: {
          query: {
            from: new Date(asked.value.to - asked.value.length).toISOString(),
            to: new Date(asked.value.to).toISOString(),
            slices: 190,
          },
        },
      }),
    ),
})

/* Heights go by the square root of the share, so that one stream of a hundred is still seen.
   0.8 % of room at the right, so that the bracket's end at now can be taken hold of. */
const ROOM = 0.008
function share(time: number): number {
  const { from, to } = ribbon.value
  return ((time - from) / (to - from)) * (1 - ROOM)
}
function timeAt(clientX: number): number {
  const bounds = box.value?.getBoundingClientRect()
  if (!bounds) return ribbon.value.to
  const { from, to } = ribbon.value
  return from + ((clientX - bounds.left) / bounds.width / (1 - ROOM)) * (to - from)
}

const bars = computed(() => {
  const data = query.data.value
  if (!data) return []
  const width = data.width_s * 1000
  const first = data.first_result ? Date.parse(data.first_result) : Infinity
  return data.starts.map((start, index) => {
    const time = Date.parse(start)
    const breached = data.breached[index] ?? 0
    const bad = breached + (data.degraded[index] ?? 0)
    return {
      x: share(time) * 1000,
      width: Math.max(0.8, (share(time + width) - share(time)) * 1000 - 1.4),
      none: data.results[index] === 0 && time >= first - width && time + width <= now.value,
      any: (data.results[index] ?? 0) > 0,
      bad: bad > 0 ? 1.5 + Math.sqrt(bad) * 13.5 : 0,
      breached: breached > 0 ? 1 + Math.sqrt(bad) * 13.5 * (breached / bad) : 0,
    }
  })
})
const ticks = computed(() => ribbonTicks(ribbon.value).map((tick) => ({ ...tick, left: share(tick.time) * 100 })))

const draft = ref<Stretch | null>(null)
const shown = computed(() => draft.value ?? chosen.value)
const left = computed(() => Math.max(0, share(shown.value.from)) * 100)
const right = computed(() => Math.min(1, share(shown.value.to)) * 100)
const label = computed(() =>
  ribbon.value.to - ribbon.value.from > 3 * 86_400_000 ? moment(shown.value.from, now.value) : clock(shown.value.from),
)

let grab: { mode: 'from' | 'to' | 'move' | 'draw'; time: number; window: Stretch; x: number } | null = null

function onDown(event: PointerEvent): void {
  const bounds = box.value?.getBoundingClientRect()
  if (!bounds || event.button !== 0) return
  const x = event.clientX - bounds.left
  const start = (left.value / 100) * bounds.width
  const end = (right.value / 100) * bounds.width
  const mode =
    Math.abs(x - start) < EDGE ? 'from' : Math.abs(x - end) < EDGE ? 'to' : x > start && x < end ? 'move' : 'draw'
  grab = { mode, time: timeAt(event.clientX), window: { ...chosen.value }, x: event.clientX }
  box.value?.setPointerCapture(event.pointerId)
}

function onMove(event: PointerEvent): void {
  const time = timeAt(event.clientX)
  if (!grab) {
    clockwork.point(time)
    return
  }
  if (Math.abs(event.clientX - grab.x) < 4 && !draft.value) return
  const latest = ribbon.value.to
  const moved = time - grab.time
  const { from, to } = grab.window
  if (grab.mode === 'from') draft.value = { from: Math.min(time, to - 120_000), to }
  else if (grab.mode === 'to') draft.value = { from, to: Math.min(latest, Math.max(time, from + 120_000)) }
  else if (grab.mode === 'move')
    draft.value = { from: from + Math.min(moved, latest - to), to: Math.min(latest, to + moved) }
  else draft.value = { from: Math.min(grab.time, time), to: Math.min(latest, Math.max(grab.time, time)) }
}

function onUp(): void {
  if (draft.value) clockwork.choose(draft.value)
  draft.value = null
  grab = null
}

function onKey(event: KeyboardEvent): void {
  const step = (chosen.value.to - chosen.value.from) / 4
  const direction = event.key === 'ArrowLeft' ? -1 : event.key === 'ArrowRight' ? 1 : 0
  if (!direction) return
  event.preventDefault()
  const { from, to } = chosen.value
  if (event.shiftKey) clockwork.choose({ from: from + direction * -step, to })
  else clockwork.choose({ from: from + direction * step, to: to + direction * step })
}
</script>

<template>
  <div
    ref="box"
    class="ribbon relative -mx-6 h-[var(--ribbon-h)] cursor-crosshair touch-none overflow-hidden border-y border-rule bg-sunk max-phone:-mx-4"
    tabindex="0"
    role="slider"
    aria-label="Time ribbon. Arrow keys move the window, shift and arrow keys change its length, n goes back to now."
    :aria-valuetext="clockwork.words.value"
    :aria-valuenow="Math.round(shown.to / 1000)"
    :aria-valuemin="Math.round(ribbon.from / 1000)"
    :aria-valuemax="Math.round(ribbon.to / 1000)"
    @pointerdown="onDown"
    @pointermove="onMove"
    @pointerup="onUp"
    @pointercancel="onUp"
    @pointerleave="clockwork.point(null)"
    @keydown="onKey"
  >
    <div class="win" :style="{ left: `${left}%`, width: `${right - left}%` }" />
    <svg class="absolute inset-0 h-full w-full" viewBox="0 0 1000 64" preserveAspectRatio="none" aria-hidden="true">
      <defs>
        <pattern id="ribbon-hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <path d="M0 0V5" stroke="var(--silent)" stroke-width="1.6" />
        </pattern>
      </defs>
      <path
        v-for="tick in ticks"
        :key="tick.time"
        :d="`M${tick.left * 10} 0V${tick.isDay ? 64 : 15}`"
        stroke="var(--rule-strong)"
        :opacity="tick.isDay ? 0.9 : 0.7"
        vector-effect="non-scaling-stroke"
      />
      <template v-for="bar in bars" :key="bar.x">
        <rect v-if="bar.none" :x="bar.x" y="48.5" :width="bar.width + 1.4" height="9" fill="url(#ribbon-hatch)" />
        <rect v-else-if="bar.bad" :x="bar.x" y="48.5" :width="bar.width" :height="bar.bad" fill="var(--degraded)" />
        <rect
          v-else-if="bar.any"
          :x="bar.x"
          y="48.5"
          :width="bar.width"
          height="0.9"
          fill="var(--ink-4)"
          opacity="0.7"
        />
        <rect
          v-if="bar.breached"
          :x="bar.x"
          y="48.5"
          :width="bar.width"
          :height="bar.breached"
          fill="var(--breached)"
        />
      </template>
      <path d="M0 47H1000" stroke="var(--rule-strong)" vector-effect="non-scaling-stroke" />
    </svg>
    <span
      v-for="tick in ticks"
      :key="tick.time"
      class="absolute top-0.5 translate-x-[5px] text-1 leading-[13px] whitespace-nowrap"
      :class="tick.isDay ? 'font-mid text-ink-2' : 'text-ink-3 max-phone:hidden'"
      :style="{ left: `${tick.left}%` }"
      >{{ tick.isDay ? dayShort(tick.time) : tick.label }}</span
    >
    <span
      class="absolute top-[17px] rounded-sm bg-sunk px-0.5 text-1 leading-[13px] font-mid whitespace-nowrap text-ink"
      :style="{ right: `calc(${100 - left}% + 7px)` }"
      >{{ label }}</span
    >
    <i class="grip" :style="{ left: `${left}%` }" />
    <i
      v-if="instant !== null && share(instant) >= 0 && share(instant) <= 1"
      class="pointer-events-none absolute inset-y-0 border-l border-ink"
      :style="{ left: `${share(instant) * 100}%` }"
    />
    <p v-if="query.isError.value" class="absolute bottom-1 left-2 text-1 text-breached-ink">
      What was affected could not be read; the window still works.
    </p>
  </div>
</template>

<style scoped>
.win {
  position: absolute;
  top: 0;
  bottom: 0;
  background: var(--sheet);
  border: solid var(--ink);
  border-width: 0 1.5px;
  cursor: grab;
}
.win::before,
.win::after {
  content: '';
  position: absolute;
  top: 0;
  width: 6px;
  height: 1.5px;
  background: var(--ink);
  box-shadow: 0 60.5px 0 var(--ink);
}
.win::before {
  left: 0;
}
.win::after {
  right: 0;
}
.grip {
  position: absolute;
  top: 32px;
  width: 5px;
  height: 13px;
  border-radius: 3px;
  background: var(--ink);
  cursor: ew-resize;
  transform: translateX(-50%);
}
.ribbon:focus-visible {
  box-shadow: inset 0 0 0 2px var(--accent);
}
</style>
