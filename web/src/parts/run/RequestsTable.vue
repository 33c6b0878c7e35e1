<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import { bytes, inWords } from '@/app/format'

/** The requests of a page on one time line, what failed, and the load as a file. */
const props = defineProps<{ run: Shapes['RunShape'] }>()
const detail = computed(() => props.run.detail)
const requests = computed(() => detail.value.requests ?? [])
const most = computed(() => Math.max(1, ...requests.value.map((one) => one.start_ms + one.time_ms)))
function short(url: string): string {
  const { host, pathname, search } = new URL(url)
  return pathname === '/' && !search ? host : `${pathname}${search}`
}
function download(): void {
  const file = new Blob([JSON.stringify(detail.value.archive, null, 1)], { type: 'application/json' })
  const link = document.createElement('a')
  link.href = URL.createObjectURL(file)
  link.download = `page-${props.run.time.slice(0, 19).replaceAll(':', '')}.har`
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <div class="mt-1.5">
    <div class="flex items-baseline gap-3 text-2">
      <span class="flex-1 text-ink-3">the slowest requests, from the start of the load</span>
      <button v-if="detail.archive && Object.keys(detail.archive).length" type="button" class="go" @click="download">
        Download as HAR
      </button>
    </div>
    <ul class="text-2">
      <li
        v-for="(one, index) in requests.slice(0, 12)"
        :key="index"
        class="grid grid-cols-[minmax(0,1fr)_36px_minmax(0,1.3fr)_64px_58px] items-center gap-2 border-t border-rule leading-[21px]"
      >
        <span class="truncate" :title="one.url">{{ short(one.url) }}</span>
        <span class="text-right" :class="one.status >= 400 || one.status <= 0 ? 'text-breached-ink' : 'text-ink-3'">{{
          one.status > 0 ? one.status : 'failed'
        }}</span>
        <span class="relative h-[7px]"
          ><i
            class="absolute inset-y-0 min-w-px bg-phase-4"
            :style="{ left: `${(one.start_ms / most) * 100}%`, width: `${(one.time_ms / most) * 100}%` }"
        /></span>
        <span class="text-right whitespace-nowrap">{{ inWords(one.time_ms, 'ms') }}</span>
        <span class="text-right whitespace-nowrap text-ink-3">{{ bytes(one.octets) }}</span>
      </li>
    </ul>
    <p v-for="one in detail.failed_requests ?? []" :key="one" class="text-2 text-breached-ink">failed: {{ one }}</p>
    <p v-for="(one, index) in detail.console ?? []" :key="index" class="text-2 text-ink-2">console: {{ one }}</p>
    <img
      v-if="detail.screenshot"
      class="mt-1.5 max-w-full border border-rule-strong"
      width="420"
      :src="`data:image/jpeg;base64,${detail.screenshot}`"
      alt="What the page looked like when it failed"
    />
  </div>
</template>
