<script setup lang="ts">
import { geoBounds, geoDistance, geoMercator, geoPath } from 'd3-geo'
import { computed, onMounted, onUnmounted, ref, useTemplateRef } from 'vue'

import Dome from '@/parts/Dome.vue'

import PlaceFigures from './PlaceFigures.vue'
import { within, type Coasts } from './coasts'
import { stateOf, type Course, type Place, type Target } from './places'

/** Places and targets on a map. Whose place is pointed at is its parent's to keep, so that a list can point, too. */
const props = defineProps<{
  places: readonly Place[]
  targets: readonly Target[]
  unit: string
  land: Coasts | undefined
  courses?: readonly Course[]
  pointed: string | null
}>()
const chosen = defineModel<string>('chosen', { required: true })
const emit = defineEmits<{ look: [key: string | null, wait: number] }>()

/* The view: everything that the layer holds, or all places; moved and drawn nearer from there. */
const box = useTemplateRef<HTMLElement>('box')
const size = ref({ width: 720, height: 600 })
let observer: ResizeObserver | null = null
onMounted(() => {
  observer = new ResizeObserver(([entry]) => {
    if (entry) size.value = { width: entry.contentRect.width, height: entry.contentRect.height }
  })
  if (box.value) observer.observe(box.value)
})
onUnmounted(() => observer?.disconnect())
const view = ref({ zoom: 1, x: 0, y: 0 })
const projection = computed(() => {
  const { width, height } = size.value
  const flat = geoMercator()
  const own = props.land?.isOwn ? props.land.layer : null
  const all: GeoJSON.MultiPoint = {
    type: 'MultiPoint',
    coordinates: [...props.places, ...props.targets.flatMap((one) => one.position ?? [])].map((one) => [
      one.longitude,
      one.latitude,
    ]),
  }
  const extent: [[number, number], [number, number]] = [
    [90, 60],
    [width - 90, height - 70],
  ]
  const near = own ? { ...all, coordinates: all.coordinates.filter(within(geoBounds(own))) } : all
  // A layer is there to be seen as far as something stands on it; the rest of it is a drag away.
  if (own && near.coordinates.length > 1) flat.fitExtent(extent, near)
  else if (own) flat.fitExtent(extent, own)
  else if (all.coordinates.length > 1) flat.fitExtent(extent, all)
  else flat.fitExtent(extent, { type: 'Sphere' })
  const [tx, ty] = flat.translate()
  const { zoom, x, y } = view.value
  return flat
    .scale(Math.min(flat.scale(), 40_000) * zoom)
    .translate([(tx - width / 2) * zoom + width / 2 + x, (ty - height / 2) * zoom + height / 2 + y])
})
const coast = computed(() => (props.land ? (geoPath(projection.value)(props.land.layer) ?? '') : ''))

const sailed = computed(() =>
  (props.courses ?? []).map((one) => ({
    key: one.vantagePoint,
    isSilent: one.isSilent,
    path: geoPath(projection.value)({ type: 'LineString', coordinates: one.positions }) ?? '',
  })),
)

interface Spot extends Place {
  x: number
  y: number
  isFolded: boolean
  members: Place[]
}
/* Places that would stand on each other are folded into one, under the name of what stands still: a ship in harbour. */
const spots = computed(() => {
  const made: Spot[] = []
  const still = (place: Place) => Number(place.points.every((one) => one.kind === 'mobile'))
  for (const place of [...props.places].sort((one, other) => still(one) - still(other))) {
    const at = projection.value([place.longitude, place.latitude])
    if (!at) continue
    const [x, y] = at
    const near = made.find((one) => Math.abs(one.x - x) < 54 && Math.abs(one.y - y) < 34)
    if (near) {
      near.members.push(place)
      near.points = [...near.points, ...place.points]
      near.isFolded = true
    } else made.push({ ...place, x, y, isFolded: false, members: [place] })
  }
  return made
})
function isInside(spot: { x: number; y: number }): boolean {
  return spot.x > 8 && spot.y > 8 && spot.x < size.value.width - 8 && spot.y < size.value.height - 8
}
const inside = computed(() => spots.value.filter(isInside))
/* What lies outside stands at the edge, with its direction and how far it is. */
const outside = computed(() => {
  const { width, height } = size.value
  const centre = projection.value.invert?.([width / 2, height / 2]) ?? [0, 0]
  const edge = spots.value
    .filter((one) => !isInside(one))
    .map((one) => {
      const km = geoDistance([one.longitude, one.latitude], centre) * 6371
      return {
        ...one,
        edgeX: Math.min(width - 16, Math.max(16, one.x)),
        // Below the tools in their corner.
        edgeY: Math.min(height - 16, Math.max(one.x > width - 60 ? 132 : 16, one.y)),
        angle: (Math.atan2(one.y - height / 2, one.x - width / 2) * 180) / Math.PI,
        km: km >= 1000 ? `${(km / 1000).toFixed(1)} thousand km` : `${Math.round(km / 10) * 10} km`,
      }
    })
  // Two at one corner stand below each other.
  return edge.map((one, index) => {
    const before = edge
      .slice(0, index)
      .filter((other) => Math.hypot(other.edgeX - one.edgeX, other.edgeY - one.edgeY) < 40)
    return { ...one, edgeY: Math.min(height - 16, one.edgeY + before.length * 34) }
  })
})
const piers = computed(() => {
  const groups = new Map<string, { x: number; y: number; targets: Target[] }>()
  for (const one of props.targets) {
    if (!one.position) continue
    const at = projection.value([one.position.longitude, one.position.latitude])
    if (!at || !isInside({ x: at[0], y: at[1] })) continue
    const key = at.map(Math.round).join(' ')
    const own = groups.get(key) ?? { x: at[0], y: at[1], targets: [] }
    groups.set(key, { ...own, targets: [...own.targets, one] })
  }
  return [...groups.values()]
})

/* A baseline's length is the quantity on a root scale. */
const most = computed(() =>
  Math.max(1, ...props.places.flatMap((place) => place.points).map((one) => one.window.value ?? 0)),
)
function length(value: number | null): number {
  return value === null ? 12 : 9 + 25 * Math.sqrt(value / most.value)
}
function marksOf(spot: Spot) {
  if (spot.isFolded) {
    const bad = spot.points.filter((one) => stateOf(one) !== 'fine')
    return [{ key: spot.key, width: 34, state: bad[0] ? stateOf(bad[0]) : ('fine' as const) }]
  }
  return spot.points.map((one) => ({ key: String(one.id), width: length(one.window.value), state: stateOf(one) }))
}
function nameOf(spot: Spot): string {
  if (!spot.isFolded) return spot.name
  const bad = spot.points.filter((one) => stateOf(one) !== 'fine').length
  return `${spot.name} and ${spot.members.length - 1} more${bad ? `: ${bad} of ${spot.points.length}` : ''}`
}

/* One place is looked at: by pointer, by focus, or because it is chosen. */
const looked = computed(() => {
  const key = props.pointed ?? chosen.value
  return inside.value.find((one) => one.members.some((each) => each.key === key)) ?? null
})
const popover = computed(() => {
  const spot = looked.value
  if (!spot) return null
  const left = Math.min(Math.max(spot.x - 150, 6), Math.max(6, size.value.width - 336))
  return spot.y > size.value.height * 0.55
    ? { left: `${left}px`, bottom: `${size.value.height - spot.y + 22}px` }
    : { left: `${left}px`, top: `${spot.y + 34}px` }
})
function look(key: string | null, wait = 0): void {
  emit('look', key, wait)
}

function choose(key: string): void {
  chosen.value = chosen.value === key ? '' : key
}

function zoomBy(factor: number): void {
  const zoom = Math.min(60, Math.max(0.2, view.value.zoom * factor))
  const by = zoom / view.value.zoom
  view.value = { zoom, x: view.value.x * by, y: view.value.y * by }
}
function all(): void {
  view.value = { zoom: 1, x: 0, y: 0 }
}
let grab: { x: number; y: number; view: { x: number; y: number } } | null = null
function onDown(event: PointerEvent): void {
  if ((event.target as HTMLElement).closest('button, a')) return
  grab = { x: event.clientX, y: event.clientY, view: { ...view.value } }
  box.value?.setPointerCapture(event.pointerId)
}
function onMove(event: PointerEvent): void {
  if (grab)
    view.value = {
      ...view.value,
      x: grab.view.x + event.clientX - grab.x,
      y: grab.view.y + event.clientY - grab.y,
    }
}
/* Arrows go to the nearest place that way. */
function onKey(event: KeyboardEvent): void {
  const way = { ArrowUp: [0, -1], ArrowDown: [0, 1], ArrowLeft: [-1, 0], ArrowRight: [1, 0] }[event.key]
  if (event.key === '+' || event.key === '=') zoomBy(1.5)
  else if (event.key === '-') zoomBy(1 / 1.5)
  else if (event.key === '0') all()
  else if (event.key === 'Escape') {
    chosen.value = ''
    look(null)
  } else if (way) {
    const from = looked.value ?? { x: size.value.width / 2, y: size.value.height / 2, key: '' }
    const [dx = 0, dy = 0] = way
    const next = inside.value
      .filter((one) => one.key !== from.key)
      .map((one) => ({
        one,
        along: (one.x - from.x) * dx + (one.y - from.y) * dy,
        far: Math.hypot(one.x - from.x, one.y - from.y),
      }))
      .filter(({ along, far }) => along > 0 && along > far * 0.5)
      .sort((a, b) => a.far - b.far)[0]
    if (next) box.value?.querySelector<HTMLElement>(`[data-place="${next.one.key}"]`)?.focus()
  } else return
  event.preventDefault()
}
</script>

<template>
  <div class="relative">
    <div
      ref="box"
      class="map absolute inset-0 cursor-grab touch-none overflow-hidden border border-rule-strong bg-ground"
      role="group"
      aria-label="Map. Tab walks the places, arrow keys go to the nearest that way, plus and minus zoom, 0 shows all. The list says the same."
      @keydown="onKey"
      @pointerdown="onDown"
      @pointermove="onMove"
      @pointerup="grab = null"
      @wheel.prevent="zoomBy($event.deltaY < 0 ? 1.18 : 1 / 1.18)"
    >
      <svg class="absolute inset-0 h-full w-full" aria-hidden="true">
        <g v-if="coast">
          <path :d="coast" fill="none" stroke="var(--rule)" stroke-width="17" stroke-linejoin="round" opacity=".55" />
          <path :d="coast" fill="none" stroke="var(--ground)" stroke-width="15.4" stroke-linejoin="round" />
          <path :d="coast" fill="none" stroke="var(--rule)" stroke-width="11" stroke-linejoin="round" opacity=".8" />
          <path :d="coast" fill="none" stroke="var(--ground)" stroke-width="9.4" stroke-linejoin="round" />
          <path
            :d="coast"
            fill="none"
            stroke="var(--rule-strong)"
            stroke-width="5"
            stroke-linejoin="round"
            opacity=".7"
          />
          <path :d="coast" fill="var(--ground)" stroke="var(--ground)" stroke-width="3.4" stroke-linejoin="round" />
          <path
            :d="coast"
            fill="var(--sunk)"
            stroke="var(--rule-strong)"
            stroke-width="1.1"
            stroke-linejoin="round"
            data-coast
          />
        </g>
        <path
          v-for="one in sailed"
          :key="one.key"
          :d="one.path"
          fill="none"
          :stroke="one.isSilent ? 'var(--silent)' : 'var(--line)'"
          stroke-width="1.4"
          stroke-linejoin="round"
          :stroke-dasharray="one.isSilent ? '4 3' : undefined"
          :opacity="one.isSilent ? 1 : 0.55"
          data-course
        />
        <g v-for="pier in piers" :key="`${pier.x} ${pier.y}`">
          <rect
            v-for="(one, index) in pier.targets"
            :key="one.id"
            :x="pier.x - pier.targets.length * 4 + index * 8"
            :y="pier.y - 20"
            width="5.5"
            height="18"
            rx="2.5"
            :fill="one.summary.is_affected ? `var(--${one.summary.state})` : 'var(--ink)'"
          />
        </g>
      </svg>
      <span
        v-for="pier in piers"
        :key="`${pier.x} ${pier.y}`"
        class="pointer-events-none absolute -translate-x-1/2 text-1 whitespace-nowrap text-ink-2"
        :style="{ left: `${pier.x}px`, top: `${pier.y - 36}px` }"
        >{{ pier.targets.length === 1 ? pier.targets[0]?.name : `${pier.targets.length} targets` }}</span
      >
      <button
        v-for="spot in inside"
        :key="spot.key"
        class="absolute flex -translate-x-1/2 -translate-y-[18px] flex-col items-center leading-[1.15]"
        :style="{ left: `${spot.x}px`, top: `${spot.y}px` }"
        :data-place="spot.key"
        :aria-label="`${nameOf(spot)}: ${spot.told}`"
        @pointerenter="look(spot.key, 120)"
        @pointerleave="look(null, 160)"
        @focus="look(spot.key)"
        @blur="look(null)"
        @click="choose(spot.key)"
      >
        <span class="flex h-[18px] items-end gap-[3px]">
          <Dome v-for="one in marksOf(spot)" :key="one.key" :state="one.state" :width="one.width" is-mute />
        </span>
        <span class="mt-[2px] text-2 font-mid whitespace-nowrap" :class="{ underline: looked?.key === spot.key }">{{
          nameOf(spot)
        }}</span>
      </button>
      <span
        v-for="one in outside"
        :key="one.key"
        class="absolute flex -translate-y-1/2 items-center gap-1 text-1 leading-[1.15] whitespace-nowrap"
        :class="one.edgeX > size.width / 2 ? '-translate-x-full flex-row-reverse text-right' : ''"
        :style="{ left: `${one.edgeX}px`, top: `${one.edgeY}px` }"
        :title="one.told"
      >
        <svg width="10" height="10" viewBox="-5 -5 10 10" aria-hidden="true">
          <path d="M4 0L-4 -4V4Z" fill="var(--ink-3)" :transform="`rotate(${one.angle})`" />
        </svg>
        <span
          ><Dome :state="one.state" :width="14" is-mute /> <b class="font-mid">{{ one.name }}</b><br /><span
            class="text-ink-3"
            >{{ one.km }} off</span
          ></span
        >
      </span>
      <div class="absolute top-2 right-2 grid gap-1.5">
        <button class="tool" aria-label="Nearer" @click="zoomBy(1.5)">+</button>
        <button class="tool" aria-label="Farther" @click="zoomBy(1 / 1.5)">−</button>
        <button class="tool text-1" aria-label="Show all" @click="all">all</button>
      </div>
    </div>
    <!-- Beyond the edge, where the map is small. -->
    <section
      v-if="looked && popover"
      class="lifted absolute z-10 w-[330px] px-3 py-2.5 text-2"
      role="tooltip"
      :style="popover"
      @pointerenter="look(looked.key)"
      @pointerleave="look(null, 160)"
    >
      <PlaceFigures :name="nameOf(looked)" :points="looked.points" :unit="unit" />
    </section>
  </div>
</template>

<style scoped>
.map:active {
  cursor: grabbing;
}
.tool {
  width: 28px;
  height: 28px;
  background: var(--ground);
  border: 1px solid var(--rule-strong);
  border-radius: var(--radius);
  font-weight: var(--w-mid);
}
</style>
