<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import type { Stretch } from '@/app/clock'
import { duration, moment, ms } from '@/app/format'
import Track from '@/parts/Track.vue'

/** The stream's state over the window: shape first, colour second. */
const props = defineProps<{ spans: readonly Shapes['Span'][]; stretch: Stretch }>()
const HEIGHT = { fine: 2, silent: 8, degraded: 8, breached: 14 }

const pieces = computed(() => {
  const length = props.stretch.to - props.stretch.from
  return props.spans.map((span) => {
    const from = Math.max(props.stretch.from, ms(span.from))
    const to = Math.min(props.stretch.to, ms(span.to))
    return {
      key: span.from,
      state: span.state,
      left: ((from - props.stretch.from) / length) * 100,
      width: ((to - from) / length) * 100,
      height: HEIGHT[span.state],
      hover: `${span.state} from ${moment(from, props.stretch.to)} for ${duration(to - from)}`,
    }
  })
})
const troubled = computed(() => {
  const bad = props.spans.filter((span) => span.state === 'degraded' || span.state === 'breached')
  return bad.reduce(
    (sum, span) =>
      sum + Math.max(0, Math.min(props.stretch.to, ms(span.to)) - Math.max(props.stretch.from, ms(span.from))),
    0,
  )
})
</script>

<template>
  <Track name="State" :stretch="stretch">
    <i
      v-for="piece in pieces"
      :key="piece.key"
      class="absolute bottom-[2px]"
      :class="piece.state === 'silent' ? 'hatched' : ''"
      :style="{
        left: `${piece.left}%`,
        width: `${Math.max(0.15, piece.width)}%`,
        height: `${piece.height}px`,
        background:
          piece.state === 'silent'
            ? undefined
            : piece.state === 'fine'
              ? 'var(--rule-strong)'
              : `var(--${piece.state})`,
      }"
      :title="piece.hover"
    />
    <template #value>
      <b class="font-mid">{{ troubled ? duration(troubled) : 'fine' }}</b>
      <span class="block text-1 text-ink-3">{{ troubled ? 'beyond a limit' : 'all along' }}</span>
    </template>
  </Track>
</template>
