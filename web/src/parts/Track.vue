<script setup lang="ts">
import { computed, ref, useTemplateRef } from 'vue'

import { useClock, type Stretch } from '@/app/clock'

/** A named plot on the common clock: name left, plot, value right. The instant is one line through all of them. */
const props = defineProps<{ name: string; note?: string; stretch: Stretch; height?: number }>()
const { instant, instantWords, point, pin, choose } = useClock()
const plot = useTemplateRef<HTMLElement>('plot')

const left = computed(() => {
  if (instant.value === null) return null
  const share = (instant.value - props.stretch.from) / (props.stretch.to - props.stretch.from)
  return share >= 0 && share <= 1 ? share * 100 : null
})
function timeAt(event: PointerEvent | MouseEvent): number {
  const bounds = plot.value?.getBoundingClientRect()
  if (!bounds) return props.stretch.to
  const share = Math.min(1, Math.max(0, (event.clientX - bounds.left) / bounds.width))
  return props.stretch.from + share * (props.stretch.to - props.stretch.from)
}
/* Dragging over a plot chooses the window that was dragged; a press alone pins the instant. */
const drawn = ref<Stretch | null>(null)
let grab: { time: number; x: number } | null = null
function onDown(event: PointerEvent): void {
  if (event.button === 0 && event.pointerType !== 'touch') grab = { time: timeAt(event), x: event.clientX }
}
function onMove(event: PointerEvent): void {
  const time = timeAt(event)
  point(time)
  if (!grab || (Math.abs(event.clientX - grab.x) < 5 && !drawn.value)) return
  if (!drawn.value) plot.value?.setPointerCapture(event.pointerId)
  drawn.value = { from: Math.min(grab.time, time), to: Math.max(grab.time, time) }
}
function onUp(event: PointerEvent): void {
  if (drawn.value) choose(drawn.value)
  else if (grab) pin(timeAt(event))
  drawn.value = null
  grab = null
}
function onKey(event: KeyboardEvent): void {
  const { from, to } = props.stretch
  const at = instant.value ?? to
  const step = (to - from) / (event.shiftKey ? 20 : 120)
  if (event.key === 'ArrowLeft') point(Math.max(from, at - step))
  else if (event.key === 'ArrowRight') point(Math.min(to, at + step))
  else if (event.key === 'Enter') pin(at)
  else return
  event.preventDefault()
}
const brush = computed(() => {
  if (!drawn.value) return null
  const length = props.stretch.to - props.stretch.from
  const share = (time: number) => ((time - props.stretch.from) / length) * 100
  return { left: `${share(drawn.value.from)}%`, width: `${share(drawn.value.to) - share(drawn.value.from)}%` }
})
</script>

<template>
  <div
    class="grid grid-cols-[104px_minmax(0,1fr)_86px] items-center gap-x-2.5 border-b border-rule py-[3px] max-phone:grid-cols-[76px_minmax(0,1fr)_66px]"
  >
    <div class="leading-[1.2]">
      <b class="block font-mid">{{ name }}</b>
      <span v-if="note" class="block text-1 text-ink-3">{{ note }}</span>
    </div>
    <div
      ref="plot"
      class="relative"
      :style="{ height: `${height ?? 18}px` }"
      tabindex="0"
      role="slider"
      :aria-label="`${name} over time. Arrow keys move the instant, Enter pins it; drag to look closer.`"
      :aria-valuetext="instantWords || 'newest'"
      :aria-valuenow="Math.round((instant ?? stretch.to) / 1000)"
      :aria-valuemin="Math.round(stretch.from / 1000)"
      :aria-valuemax="Math.round(stretch.to / 1000)"
      @pointerdown="onDown"
      @pointermove="onMove"
      @pointerup="onUp"
      @pointerleave="point(null)"
      @keydown="onKey"
      @blur="point(null)"
    >
      <slot />
      <i v-if="brush" class="pointer-events-none absolute inset-y-0 z-[2] bg-accent-wash/60" :style="brush" />
      <i
        v-if="left !== null"
        class="pointer-events-none absolute inset-y-0 z-[3] border-l border-ink"
        :style="{ left: `${left}%` }"
      >
        <b
          v-if="height && height > 60"
          class="absolute top-0 -translate-x-1/2 rounded-sm bg-ink px-[5px] text-1 leading-[15px] font-mid whitespace-nowrap text-ground not-italic"
          >{{ instantWords }}</b
        >
      </i>
    </div>
    <div class="text-right leading-[1.2] whitespace-nowrap"><slot name="value" /></div>
  </div>
</template>
