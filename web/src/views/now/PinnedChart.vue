<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { api, answered } from '@/api/client'
import { useClock } from '@/app/clock'
import { duration, inWords, moment } from '@/app/format'
import { useSaved, type Chart } from '@/app/saved'
import LinesPlot, { type Line } from '@/parts/LinesPlot.vue'
import { SERIES } from '@/parts/plot'

/** A chart that somebody pinned: its own streams, window and refresh, whatever the clock of the screen is. */
const props = defineProps<{ pin: Chart }>()
const PAGES = { group: 'groups', target: 'targets', vantage_point: 'vantage-points' }
const { now } = useClock()
const { forget } = useSaved()
function stretchNow() {
  const { window_s, from, to } = props.pin.body
  const end = Date.now()
  return window_s
    ? { from: end - window_s * 1000, to: end }
    : { from: Date.parse(from ?? ''), to: Date.parse(to ?? '') }
}
const series = useQuery({
  queryKey: ['pinned', () => props.pin.id],
  queryFn: async () => {
    const stretch = stretchNow()
    const { streams = [], together, quantity } = props.pin.body
    const held = { from: new Date(stretch.from).toISOString(), to: new Date(stretch.to).toISOString() }
    if (together) {
      const { of, id, probes } = together
      const all = await answered(
        api.GET('/api/overview/series', { params: { query: { of, id, kind: probes, ...held, points: 120 } } }),
      )
      return { ...all, stretch, streams: [{ stream: 0, columns: { p50: all.p50 } }] }
    }
    const found = await answered(
      api.GET('/api/query/windows', {
        params: {
          query: {
            streams,
            ...(quantity ? { quantity } : {}),
            ...held,
            statistics: ['p50'],
            points: 120,
          },
        },
      }),
    )
    return { ...found, stretch }
  },
  refetchInterval: () => (props.pin.body.refresh_s ?? 60) * 1000,
})
const data = computed(() => series.data.value)
const lines = computed(() =>
  (data.value?.streams ?? []).map((one, index): Line => ({
    key: one.stream,
    starts: data.value?.starts ?? [],
    widthS: data.value?.width_s ?? 0,
    values: one.columns.p50 ?? [],
    colour: SERIES[index] ?? 'var(--line)',
  })),
)
const newest = computed(() => lines.value[0]?.values.findLast((value) => value !== null) ?? null)
const told = computed(() => {
  const { window_s, from, to } = props.pin.body
  return window_s
    ? `last ${duration(window_s * 1000)}`
    : `${moment(Date.parse(from ?? ''), now.value)} to ${moment(Date.parse(to ?? ''), now.value)}`
})
const leads = computed(() => {
  const { streams = [], together } = props.pin.body
  if (together) return together.of === 'all' ? '/estate' : `/${PAGES[together.of]}/${together.id}`
  return streams.length === 1 ? `/streams/${streams[0]}` : `/compare?streams=${streams.join(',')}`
})
</script>

<template>
  <div class="grid grid-cols-[180px_minmax(0,1fr)_84px] gap-x-3 border-b border-rule py-2.5" data-pinned>
    <div class="text-2 leading-[1.35]">
      <RouterLink :to="leads" class="font-mid hover:underline">{{ pin.name }}</RouterLink>
      <span class="block text-ink-3">{{ told }}, every {{ duration((pin.body.refresh_s ?? 60) * 1000) }}</span>
      <button class="go" :aria-label="`Unpin ${pin.name}`" @click="forget.mutate(pin.id)">unpin</button>
    </div>
    <div class="h-[64px]">
      <LinesPlot v-if="data" :lines="lines" :stretch="data.stretch" :unit="data.unit" />
      <p v-else-if="series.isError.value" class="text-2 text-breached-ink">{{ series.error.value?.message }}</p>
    </div>
    <p class="text-right">
      <b class="font-mid">{{ data ? inWords(newest, data.unit) : '' }}</b><span class="block text-1 text-ink-3"
        >newest</span
      >
    </p>
  </div>
</template>
