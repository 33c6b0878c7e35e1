<script setup lang="ts">
import { computed, useTemplateRef } from 'vue'

import { useClock, type Stretch } from '@/app/clock'

/** A named plot on the common clock: name left, plot, value right. The instant is one line through all of them. */
const props = defineProps<{ name: string; note?: string; stretch: Stretch; height?: number }>()
const { instant, instantWords, point, pin } = useClock()
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
      @pointermove="point(timeAt($event))"
      @pointerleave="point(null)"
      @click="pin(timeAt($event))"
    >
      <slot />
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
