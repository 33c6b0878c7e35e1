<script setup lang="ts">
import type { Stretch } from '@/app/clock'

import TimeAxis from './TimeAxis.vue'

/** The axis under tracks, in their columns. */
defineProps<{ stretch: Stretch }>()
</script>

<template>
  <div class="grid grid-cols-[104px_minmax(0,1fr)_86px] gap-x-2.5 max-phone:grid-cols-[76px_minmax(0,1fr)_66px]">
    <span />
    <TimeAxis :stretch="stretch" />
  </div>
</template>
