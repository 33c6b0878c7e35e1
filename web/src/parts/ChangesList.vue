<script setup lang="ts">
import { RouterLink } from 'vue-router'

import type { Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { full, moment, ms } from '@/app/format'

/** What changed, newest first: releases, notices, maintenance, and what was seen in the measurements. */
withDefaults(defineProps<{ changes: readonly Shapes['ChangeShape'][]; most?: number }>(), { most: 10 })
const { now } = useClock()
/** What it is now, and what of; what was seen in measurements is named by its source already. */
function told({ source, subject, before, after }: Shapes['ChangeShape']): string {
  const what = subject === source ? '' : `${subject}${after ? ': ' : ''}`
  return `${what}${after}${before && after ? `, was ${before}` : ''}`
}
</script>

<template>
  <h2 class="heading mt-4 border-b border-rule-strong pb-1">What changed</h2>
  <p v-if="changes.length === 0" class="py-1.5 text-2 text-ink-2">Nothing changed in this window.</p>
  <component
    :is="one.stream ? RouterLink : 'p'"
    v-for="one in changes.slice(0, most)"
    :key="one.id"
    :to="`/streams/${one.stream}`"
    class="flex items-baseline gap-2 border-b border-rule text-2 leading-[23px]"
    :title="`${full(ms(one.time))}: ${one.subject}: ${one.before || 'nothing'} before, ${one.after || 'nothing'} after; told by ${one.actor}`"
  >
    <span class="w-[86px] flex-none text-ink-2">{{ moment(ms(one.time), now) }}</span>
    <span class="w-[72px] flex-none">{{ one.source }}</span>
    <span class="min-w-0 flex-1 truncate">{{ told(one) }}</span>
  </component>
  <p v-if="changes.length > most" class="text-2 text-ink-3">and {{ changes.length - most }} more in this window</p>
</template>
