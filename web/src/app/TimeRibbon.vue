<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, useTemplateRef } from 'vue'

import { api, answered } from '@/api/client'

import { useClock, type Stretch } from './clock'
import { clock, dayShort, moment } from './format'
import { ribbonTicks } from './ticks'

const EDGE = 8
const clockwork = useClock()
const { ribbon, window: chosen, against, againstWords, now, instant, span } = clockwork
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
      none: !data.is_measured[index] && time >= first - width && time + width <= now.value,
      any: data.is_measured[index] ?? false,
      bad: bad > 0 ? 1.5 + Math.sqrt(bad) * 13.5 : 0,
      breached: breached > 0 ? 1 + Math.sqrt(bad) * 13.5 * (breached / bad) : 0,
    }
  })
})
const arches = computed(() =>
  (query.data.value?.arches ?? []).map((arch) => {
    const left = share(Date.parse(arch.from)) * 1000
    const right = share(Date.parse(arch.to)) * 1000
    // A short one keeps a foot of nine pixels and a lower head; an open one is cut by the edge.
    const width = Math.max(right - left, 8)
    const height = Math.min(9 + Math.sqrt(arch.share) * 40, 14 + width * 0.6, 38)
    const end = arch.is_open ? left + width * 2 : left + width
    return {
      ...arch,
      left,
      width,
      path: `M${left} 47C${left} ${47 - height * 1.33} ${end} ${47 - height * 1.33} ${end} 47`,
      told: `${arch.name} ${arch.state}, ${moment(Date.parse(arch.from), now.value)} ${arch.is_open ? 'until now' : `to ${moment(Date.parse(arch.to), now.value)}`}`,
    }
  }),
)
/** The arch at a place of the upper half, the narrowest of those that span it. */
function archAt(event: PointerEvent): (typeof arches.value)[number] | undefined {
  const bounds = box.value?.getBoundingClientRect()
  if (!bounds || event.clientY - bounds.top > 47 || event.clientY - bounds.top < 16) return undefined
  const x = ((event.clientX - bounds.left) / bounds.width) * 1000
  return [...arches.value]
    .sort((one, other) => one.width - other.width)
    .find((one) => x >= one.left - 3 && x <= one.left + one.width + 3)
}
const pointed = ref<(typeof arches.value)[number] | undefined>()
const ticks = computed(() => ribbonTicks(ribbon.value).map((tick) => ({ ...tick, left: share(tick.time) * 100 })))

/** An arch with a little of what was before and after. */
function around(stretch: Stretch): Stretch {
  const margin = Math.max(600_000, (stretch.to - stretch.from) / 5)
  return { from: stretch.from - margin, to: Math.min(ribbon.value.to, stretch.to + margin) }
}

const draft = ref<Stretch | null>(null)
const ghostDraft = ref<Stretch | null>(null)
const againstEnds = computed(() => {
  const shownAgainst = ghostDraft.value ?? against.value
  if (!shownAgainst) return null
  const from = Math.max(0, share(shownAgainst.from))
  const to = Math.min(1, share(shownAgainst.to))
  return to > from ? { left: from * 100, width: (to - from) * 100 } : null
})
const shown = computed(() => draft.value ?? chosen.value)
const left = computed(() => Math.max(0, share(shown.value.from)) * 100)
const right = computed(() => Math.min(1, share(shown.value.to)) * 100)
const label = computed(() =>
  ribbon.value.to - ribbon.value.from > 3 * 86_400_000 ? moment(shown.value.from, now.value) : clock(shown.value.from),
)

let grab: { mode: 'from' | 'to' | 'move' | 'draw' | 'against'; time: number; window: Stretch; x: number } | null = null

function onDown(event: PointerEvent): void {
  const bounds = box.value?.getBoundingClientRect()
  if (!bounds || event.button !== 0) return
  const ghost = againstEnds.value
  const x = event.clientX - bounds.left
  const isGhost =
    ghost && x > (ghost.left / 100) * bounds.width && x < ((ghost.left + ghost.width) / 100) * bounds.width
  const start = (left.value / 100) * bounds.width
  const end = (right.value / 100) * bounds.width
  const mode =
    Math.abs(x - start) < EDGE
      ? 'from'
      : Math.abs(x - end) < EDGE
        ? 'to'
        : x > start && x < end
          ? 'move'
          : isGhost
            ? 'against'
            : 'draw'
  const held = mode === 'against' && against.value ? against.value : chosen.value
  grab = { mode, time: timeAt(event.clientX), window: { ...held }, x: event.clientX }
  box.value?.setPointerCapture(event.pointerId)
}

function onMove(event: PointerEvent): void {
  const time = timeAt(event.clientX)
  if (!grab) {
    clockwork.point(time)
    pointed.value = archAt(event)
    return
  }
  if (Math.abs(event.clientX - grab.x) < 4 && !draft.value && !ghostDraft.value) return
  const latest = ribbon.value.to
  const moved = time - grab.time
  const { from, to } = grab.window
  if (grab.mode === 'against') ghostDraft.value = { from: from + moved, to: to + moved }
  else if (grab.mode === 'from') draft.value = { from: Math.min(time, to - 120_000), to }
  else if (grab.mode === 'to') draft.value = { from, to: Math.min(latest, Math.max(time, from + 120_000)) }
  else if (grab.mode === 'move')
    draft.value = { from: from + Math.min(moved, latest - to), to: Math.min(latest, to + moved) }
  else draft.value = { from: Math.min(grab.time, time), to: Math.min(latest, Math.max(grab.time, time)) }
}

function onUp(event: PointerEvent): void {
  const arch = grab && !draft.value && !ghostDraft.value ? archAt(event) : undefined
  if (draft.value) clockwork.choose(draft.value)
  else if (ghostDraft.value) clockwork.holdAgainstFrom(ghostDraft.value.from)
  else if (arch) clockwork.choose(around({ from: Date.parse(arch.from), to: Date.parse(arch.to) }))
  draft.value = null
  ghostDraft.value = null
  grab = null
}

function leave(): void {
  clockwork.point(null)
  pointed.value = undefined
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
    aria-label="Time ribbon. Arrow keys move the window, shift and arrow keys change its length, c holds it against another, n goes back to now."
    :aria-valuetext="clockwork.words.value"
    :aria-valuenow="Math.round(shown.to / 1000)"
    :aria-valuemin="Math.round(ribbon.from / 1000)"
    :aria-valuemax="Math.round(ribbon.to / 1000)"
    @pointerdown="onDown"
    @pointermove="onMove"
    @pointerup="onUp"
    @pointercancel="onUp"
    @pointerleave="leave"
    @keydown="onKey"
  >
    <div
      v-if="againstEnds"
      class="ghost"
      :style="{ left: `${againstEnds.left}%`, width: `${againstEnds.width}%` }"
      :title="`held against ${againstWords}`"
    />
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
      <path
        v-for="arch in arches"
        :key="`${arch.scope} ${arch.name} ${arch.from}`"
        :d="arch.path"
        :fill="`var(--${arch.state})`"
        :fill-opacity="arch === pointed ? 0.28 : 0.12"
        :stroke="`var(--${arch.state})`"
        :stroke-width="arch === pointed ? 2.4 : 1.3"
        vector-effect="non-scaling-stroke"
        data-arch
      />
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
    <span
      v-if="pointed"
      class="lifted pointer-events-none absolute top-[3px] z-10 px-1.5 text-1 leading-[16px] whitespace-nowrap"
      :style="
        pointed.left < 600
          ? { left: `calc(${pointed.left / 10}% + 12px)` }
          : { right: `calc(${100 - pointed.left / 10}% + 6px)` }
      "
      >{{ pointed.told }}</span
    >
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
.ghost {
  position: absolute;
  top: 0;
  bottom: 0;
  background: var(--ghost-wash);
  border: dashed var(--ghost);
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
