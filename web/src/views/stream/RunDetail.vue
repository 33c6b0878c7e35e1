<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import { inWords } from '@/app/format'
import PhaseBar from '@/parts/PhaseBar.vue'
import RunFacts from '@/parts/run/RunFacts.vue'

/** One run in full: its phases above a usual run's, its tries, and what it saw. */
const props = defineProps<{
  run: Shapes['RunShape']
  stream: Shapes['StreamShape']
  quantities: readonly Shapes['QuantityShape'][]
  /** The median of each phase over the window, ms. */
  usualPhases: Record<string, number>
}>()
const timings = computed<Record<string, number>>(() => props.run.detail.timings_ms ?? props.run.quantities)
/* A transaction has as many phases as it has steps. */
const phases = computed(() => props.stream.phases.filter((name) => name in timings.value || name in props.usualPhases))
function sum(values: Record<string, number>): number {
  return phases.value.reduce((all, name) => all + (values[name] ?? 0), 0)
}
const most = computed(() => Math.max(sum(timings.value), sum(props.usualPhases), 1e-6) * 1.15)
</script>

<template>
  <div class="pt-1 pb-2 pl-[22px]">
    <template v-if="phases.length">
      <div class="grid grid-cols-[72px_minmax(0,1fr)_72px] items-center gap-y-1">
        <span class="text-2 text-ink-2">this run</span>
        <PhaseBar :phases="phases" :values="timings" :most="most" is-large />
        <b class="pl-2">{{ inWords(sum(timings), 'ms') }}</b>
        <span class="text-2 text-ink-2">usual run</span>
        <PhaseBar class="opacity-75" :phases="phases" :values="usualPhases" :most="most" />
        <span class="pl-2 text-2 text-ink-2">{{ inWords(sum(usualPhases), 'ms') }}</span>
      </div>
      <p class="mt-0.5 text-1 text-ink-3">usual: the median of each phase in this window</p>
    </template>
    <RunFacts :run="run" :quantities="quantities" :phases="phases" :main="stream.main" />
    <p v-if="run.is_generated" class="mt-1 text-1 text-ink-3">This run is made-up history of the demo, not measured.</p>
  </div>
</template>
