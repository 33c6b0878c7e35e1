<script setup lang="ts">
import { computed } from 'vue'

import type { State } from '@/api/client'

/** A state by its shape: fine is the baseline alone, degraded half filled, breached filled, silent dashed.
   A mute one stands beside words that say it already. */
const props = withDefaults(defineProps<{ state: State; width?: number; isInk?: boolean; isMute?: boolean }>(), {
  width: 14,
})
const height = computed(() => (props.width * 7.4) / 12)
const colour = computed(() =>
  props.state === 'fine' ? 'var(--ink-4)' : `var(--${props.state}${props.isInk ? '-ink' : ''})`,
)
</script>

<template>
  <svg
    class="inline-block flex-none align-[-1px]"
    :role="isMute ? undefined : 'img'"
    :aria-label="isMute ? undefined : state"
    :aria-hidden="isMute || undefined"
    :width="width"
    :height="height"
    viewBox="0 0 12 7.4"
  >
    <title v-if="!isMute">{{ state }}</title>
    <path d="M0 6.8H12" :stroke="colour" stroke-width="1.1" />
    <template v-if="state === 'degraded'">
      <path d="M1.7 6.8A4.3 4.3 0 0 1 6 2.5V6.8Z" :fill="colour" />
      <path d="M1.7 6.8A4.3 4.3 0 0 1 10.3 6.8" fill="none" :stroke="colour" stroke-width="1.3" />
    </template>
    <path
      v-else-if="state === 'breached'"
      d="M1.7 6.8A4.3 4.3 0 0 1 10.3 6.8Z"
      :fill="colour"
      :stroke="colour"
      stroke-width="1.3"
    />
    <path
      v-else-if="state === 'silent'"
      d="M1.7 6.8A4.3 4.3 0 0 1 10.3 6.8"
      fill="none"
      :stroke="colour"
      stroke-width="1.2"
      stroke-dasharray="1.7 1.3"
    />
  </svg>
</template>
