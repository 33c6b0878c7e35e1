<script setup lang="ts">
import type { Shapes } from '@/api/client'
import type { Stretch } from '@/app/clock'
import BandPlot from '@/parts/BandPlot.vue'

/** The small series of the stream that tells a matter best, over the shared window. */
defineProps<{ matter: Shapes['MatterShape']; series: Shapes['BandShape'] | null; stretch: Stretch }>()
</script>

<template>
  <div>
    <div class="relative h-[40px]">
      <BandPlot
        v-if="series"
        :series="series"
        :stretch="stretch"
        :limits="matter.limits"
        :main="matter.quantity"
        is-small
        is-bare
      />
    </div>
    <p class="text-1 leading-[1.25] text-balance text-ink-3">{{ matter.label }}</p>
  </div>
</template>
