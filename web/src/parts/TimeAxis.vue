<script setup lang="ts">
import { computed } from 'vue'

import type { Stretch } from '@/app/clock'
import { dayShort, full } from '@/app/format'
import { axisTicks } from '@/app/ticks'

/** Times under a chart. */
const props = defineProps<{ stretch: Stretch; most?: number }>()
const ticks = computed(() =>
  axisTicks(props.stretch, props.most ?? 7)
    .map((tick) => ({
      ...tick,
      left: ((tick.time - props.stretch.from) / (props.stretch.to - props.stretch.from)) * 100,
    }))
    .filter((tick) => tick.left > 2 && tick.left < 98),
)
</script>

<template>
  <div class="relative h-4">
    <span
      v-for="tick in ticks"
      :key="tick.time"
      class="absolute -translate-x-1/2 text-1 leading-[14px] whitespace-nowrap text-ink-3"
      :style="{ left: `${tick.left}%` }"
      :title="full(tick.time)"
      >{{ tick.isDay ? dayShort(tick.time) : tick.label }}</span
    >
  </div>
</template>
