<script setup lang="ts">
import { computed } from 'vue'

import Choice from '@/parts/Choice.vue'

import { SPANS, useClock, type SpanKey } from './clock'
import { full, zone } from './format'
import { pageName, pageNote } from './page'

const { span, window, words, isFollowing, isPinned, instantWords, chooseSpan, follow, unpin } = useClock()
const spans = SPANS.map((one) => ({ key: one.key, label: one.name }))
const chosen = computed({ get: () => span.value.key, set: (key: SpanKey) => chooseSpan(key) })
const hover = computed(() => `${full(window.value.from)} to ${full(window.value.to)}`)
</script>

<template>
  <div
    class="flex h-10 items-baseline gap-[18px] pt-[11px] text-2 whitespace-nowrap text-ink-2 max-phone:h-auto max-phone:flex-wrap max-phone:gap-x-3.5 max-phone:gap-y-1 max-phone:pb-2"
  >
    <h1 class="text-[19px] leading-none font-[620] tracking-[-.01em] text-ink">{{ pageName }}</h1>
    <span class="overflow-hidden text-ellipsis max-phone:hidden">{{ pageNote }}</span>
    <span class="flex-1 max-phone:hidden" />
    <Choice v-model="chosen" :options="spans" label="span of the ribbon" is-plain />
    <span :title="hover"
      >window <b class="text-ink">{{ words }}</b></span
    >
    <button v-if="isPinned" class="go" title="Esc lets it go" @click="unpin">pinned at {{ instantWords }}</button>
    <span v-if="isFollowing" class="text-accent-ink" :title="`Times are of ${zone}`">following now</span>
    <button v-else class="go" title="Key n" @click="follow">held, back to now</button>
  </div>
</template>
