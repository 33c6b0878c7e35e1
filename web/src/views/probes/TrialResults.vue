<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import { clock, inWords, ms } from '@/app/format'
import PhaseBar from '@/parts/PhaseBar.vue'
import RunFacts from '@/parts/run/RunFacts.vue'

/** What trying a probe came to, one vantage point under the other on one scale. */
const props = defineProps<{ trial: Shapes['TrialShape'] }>()
type Part = Shapes['TrialPart']

const phases = computed(() =>
  props.trial.phases.filter((name) => props.trial.parts.some((one) => one.run?.quantities[name] !== undefined)),
)
function timings(part: Part): Record<string, number> {
  return part.run?.detail.timings_ms ?? part.run?.quantities ?? {}
}
function sum(part: Part): number {
  return phases.value.reduce((all, name) => all + (timings(part)[name] ?? 0), 0)
}
const most = computed(() => Math.max(1e-6, ...props.trial.parts.map(sum)) * 1.1)
function told(part: Part): string {
  if (!part.run) return ''
  if (!part.run.is_ok) {
    const note = part.run.attempts.at(-1)?.note
    return `${part.run.words}${note ? `: ${note}` : ''}`
  }
  return inWords(part.run.quantities[props.trial.main], props.trial.unit)
}
</script>

<template>
  <section aria-live="polite">
    <p class="text-2 text-ink-2">Tried at {{ clock(ms(trial.asked), true) }}; nothing is saved by trying.</p>
    <article v-for="part in trial.parts" :key="part.vantage_point" class="border-t border-rule py-2" data-trial>
      <p class="flex items-baseline gap-3">
        <b>{{ part.name }}</b>
        <span v-if="part.state !== 'done'" :class="part.state === 'late' ? 'text-breached-ink' : 'text-ink-2'">{{
          part.words
        }}</span>
        <span v-else-if="part.run?.is_ok" class="font-mid">{{ told(part) }}</span>
        <span v-else class="font-mid text-breached-ink">{{ told(part) }}</span>
      </p>
      <template v-if="part.run">
        <PhaseBar
          v-if="phases.length && sum(part) > 0"
          class="mt-1"
          :phases="phases"
          :values="timings(part)"
          :most="most"
          is-large
        />
        <RunFacts :run="part.run" :quantities="trial.quantities" :phases="phases" :main="trial.main" />
      </template>
    </article>
  </section>
</template>
