<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { api, answered } from '@/api/client'
import { useClock } from '@/app/clock'
import { duration, full, inWords, moment, ms } from '@/app/format'
import BandPlot from '@/parts/BandPlot.vue'
import Dome from '@/parts/Dome.vue'
import Figure from '@/parts/Figure.vue'
import TimeAxis from '@/parts/TimeAxis.vue'

import { departure, type Cell, type Matrix } from './arrangement'

const props = defineProps<{ cell: Cell; matrix: Matrix; left: number; top: number; bottom: number }>()
const WIDTH = 356
const { asked, window, now } = useClock()

const shown = computed(() => props.cell.streams.find((one) => one.stream === props.cell.shown) ?? props.cell.streams[0])
const row = computed(() => props.matrix.rows.find((one) => one.id === props.cell.vantage_point))
const column = computed(() => props.matrix.columns.find((one) => one.id === props.cell.target))
const series = useQuery({
  queryKey: ['popover', shown.value?.stream],
  queryFn: () =>
    answered(
      api.GET('/api/streams/{stream}/series', {
        params: { path: { stream: shown.value?.stream ?? 0 }, query: { ...asked.value, points: 90 } },
      }),
    ),
  enabled: computed(() => shown.value !== undefined),
})
const stream = useQuery({
  queryKey: ['popover stream', shown.value?.stream],
  queryFn: () =>
    answered(
      api.GET('/api/streams/{stream}', {
        params: { path: { stream: shown.value?.stream ?? 0 }, query: asked.value },
      }),
    ),
  enabled: computed(() => shown.value !== undefined),
})
const place = computed(() => {
  const left = Math.min(
    Math.max(0, props.left - 60),
    Math.max(0, (document.querySelector('main')?.clientWidth ?? 900) - 48 - WIDTH),
  )
  const room = globalThis.innerHeight - props.bottom
  return room < 420 && props.top > 320
    ? { left: `${left}px`, bottom: `calc(100% - ${props.top - 6}px)` }
    : { left: `${left}px`, top: `${props.bottom + 6}px` }
})
const since = computed(() => (shown.value ? moment(ms(shown.value.since), now.value) : ''))
</script>

<template>
  <section class="lifted absolute z-10 px-[13px] py-[11px]" :style="{ ...place, width: `${WIDTH}px` }" role="tooltip">
    <p class="font-bold">
      {{ row?.name }} to {{ column?.name }} <Dome :state="cell.state" class="ml-1" />
      <span class="ml-1 font-normal" :title="full(ms(shown?.since ?? ''))">{{ cell.state }}</span>
    </p>
    <template v-if="series.data.value">
      <div class="relative mt-4 h-[72px]">
        <BandPlot
          :series="series.data.value"
          :stretch="window"
          :limits="stream.data.value?.limits ?? []"
          :main="stream.data.value?.main ?? ''"
          is-small
        />
      </div>
      <TimeAxis :stretch="window" :most="4" />
    </template>
    <p class="mt-1.5 text-2 text-ink-2">
      <template v-if="shown?.state === 'silent'">
        No result for {{ shown.last_run ? duration(now - ms(shown.last_run)) : 'as long as it has been set up' }}.
      </template>
      <template v-else-if="stream.data.value">{{ stream.data.value.sentence }}, since {{ since }}.</template>
      <template v-if="cell.figure.value !== null">
        This window: <b class="text-ink"><Figure :of="cell.figure" /></b>
        <template v-if="cell.figure.low !== null && cell.figure.high !== null">
          ({{ inWords(cell.figure.low, cell.figure.unit) }} to {{ inWords(cell.figure.high, cell.figure.unit) }}, 95
          %)</template
        >, {{ cell.figure.count.toLocaleString('en-GB') }} samples.
      </template>
      <template v-else> Nothing measured in this window. </template>
      <template v-if="cell.departure && cell.figure.unit !== '1'">
        Usually <b class="text-ink">{{ inWords(cell.departure.usual, cell.figure.unit) }}</b>{{
          departure(cell) ? `, so ${departure(cell)}` : ''
        }}.
      </template>
    </p>
    <ul class="mt-1.5 text-2">
      <li v-for="one in cell.streams" :key="one.stream" class="flex items-baseline gap-1.5">
        <Dome :state="one.state" :width="12" />
        <RouterLink :to="`/streams/${one.stream}`" class="go">{{ one.probe }}</RouterLink>
        <span class="text-ink-3">{{ one.kind_label }}, {{ one.state }}</span>
      </li>
    </ul>
  </section>
</template>
