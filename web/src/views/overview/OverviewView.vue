<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { api, answered } from '@/api/client'
import { useClock } from '@/app/clock'
import { duration, written } from '@/app/format'
import { useFresh } from '@/app/fresh'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import BandPlot from '@/parts/BandPlot.vue'
import ChartTools from '@/parts/ChartTools.vue'
import Choice from '@/parts/Choice.vue'
import Dome from '@/parts/Dome.vue'
import Track from '@/parts/Track.vue'
import TrackAxis from '@/parts/TrackAxis.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'
import { bandColumns, bandRows } from '@/parts/plot'

import FailedRuns from './FailedRuns.vue'
import MembersTable from './MembersTable.vue'
import OverviewFigures from './OverviewFigures.vue'
import PointsTable from './PointsTable.vue'
import { useSelection } from './selection'

const { of, id, query } = useSelection()
const { asked, window, instant, against, againstWords } = useClock()
const kind = useKept<string>('kind', '')

const overview = useQuery({
  queryKey: ['overview', query, asked, kind],
  queryFn: () =>
    answered(
      api.GET('/api/overview', {
        params: { query: { ...query.value, ...asked.value, ...(kind.value ? { kind: kind.value } : {}) } },
      }),
    ),
})
const data = computed(() => overview.data.value)
const streams = computed(() => new Set((data.value?.members ?? []).map((one) => one.stream)))
useFresh((stream) => streams.value.has(stream), 15_000)
usePage(
  () => data.value?.name ?? 'In figures',
  () => data.value?.description ?? '',
)
const shownKind = computed({
  get: () => data.value?.kind ?? '',
  set: (value: string) => (kind.value = value),
})
const kinds = computed(() => (data.value?.kinds ?? []).map((one) => ({ key: one.kind, label: one.label })))

function seriesOf(stretch: { from: string; to: string }) {
  return answered(
    api.GET('/api/overview/series', {
      params: { query: { ...query.value, ...stretch, kind: shownKind.value, points: 160 } },
    }),
  )
}
const isKnown = computed(() => shownKind.value !== '')
const series = useQuery({
  queryKey: ['overview series', query, asked, shownKind],
  queryFn: () => seriesOf(asked.value),
  enabled: isKnown,
})
const before = useQuery({
  queryKey: ['overview before', query, against, shownKind],
  queryFn: () =>
    seriesOf({
      from: new Date(against.value?.from ?? 0).toISOString(),
      to: new Date(against.value?.to ?? 0).toISOString(),
    }),
  enabled: computed(() => isKnown.value && against.value !== null),
})
const usual = useQuery({
  queryKey: ['overview usual', query, asked, shownKind],
  queryFn: () =>
    answered(
      api.GET('/api/overview/usual', { params: { query: { ...query.value, ...asked.value, kind: shownKind.value } } }),
    ),
  enabled: isKnown,
})
const isUsualKnown = computed(() => usual.data.value?.low.some((one) => one !== null) ?? false)
const index = computed(() => {
  const found = series.data.value
  if (!found) return -1
  const at = instant.value
  if (at !== null) return found.starts.findLastIndex((start) => Date.parse(start) <= at)
  return found.p50.findLastIndex((value) => value !== null)
})
const value = computed(() => written(series.data.value?.p50[index.value], data.value?.unit ?? ''))
const sentence = computed(() => {
  const found = data.value
  if (!found) return ''
  const { not_fine, streams: count } = found.whole
  const who = of === 'all' ? 'Everything' : of === 'target' ? `The ${found.name}` : found.name
  if (count === 0) return `Nothing measures ${of === 'vantage_point' ? `from ${found.name}` : who} yet.`
  if (not_fine === 0) return `${who} is fine: ${count === 1 ? 'its one stream' : `all ${count} streams`}.`
  return `${not_fine} of ${count} streams${of === 'all' ? '' : ` of ${found.name}`} ${not_fine === 1 ? 'is' : 'are'} not fine.`
})
const worst = computed(() => {
  const states = new Set((data.value?.members ?? []).map((one) => one.state))
  return (['breached', 'degraded', 'silent'] as const).find((one) => states.has(one)) ?? 'fine'
})
</script>

<template>
  <Trouble v-if="overview.isError.value" what="This page" :error="overview.error.value" @again="overview.refetch()" />
  <Waiting v-if="overview.isPending.value" what="Reading what was measured." />
  <template v-if="data">
    <p class="my-[11px] text-[16.5px] leading-[1.36] text-pretty">
      <Dome :state="worst" :width="20" class="mr-[3px]" />
      <b>{{ sentence }}</b>
      <template v-if="data.whole.streams === 0">
        <RouterLink to="/probes/new" class="go text-3">Add a probe</RouterLink>
      </template>
    </p>
    <div v-if="data.kind" class="grid grid-cols-[minmax(0,1fr)_330px] gap-x-8 max-[1100px]:block">
      <div>
        <div class="mb-1 flex flex-wrap items-baseline gap-x-3 gap-y-1 text-2">
          <Choice v-if="kinds.length > 1" v-model="shownKind" :options="kinds" label="kind of probe" />
          <span class="flex-1" />
          <!-- Its room is kept: the chart does not move when what is usual arrives. -->
          <span class="text-ink-2" :class="{ invisible: !isUsualKnown }" :title="usual.data.value?.method"
            ><i class="mr-1 inline-block h-2.5 w-4 bg-usual" />usual p5 to p95</span
          >
          <span v-if="against" class="text-ghost-ink"
            ><i class="mr-1 inline-block w-4 border-t-2 border-dashed border-ghost align-middle" />{{
              againstWords
            }}</span
          >
        </div>
        <Trouble v-if="series.isError.value" what="The series" :error="series.error.value" @again="series.refetch()" />
        <template v-if="series.data.value">
          <Track
            name="All together"
            :note="`median, p5 to p95, per ${duration(series.data.value.width_s * 1000)}`"
            :stretch="window"
            :height="120"
          >
            <BandPlot
              :series="series.data.value"
              :stretch="window"
              :limits="[]"
              main=""
              :usual="usual.data.value"
              :before="against ? before.data.value : undefined"
            />
            <template #value>
              <b class="font-mid"
                >{{ value.figure }}<span class="unit">{{ value.unit }}</span></b
              >
              <span class="block text-1 text-ink-3">{{ instant === null ? 'newest' : 'at the instant' }}</span>
            </template>
          </Track>
          <TrackAxis :stretch="window" />
          <ChartTools
            :name="`${data.name} ${data.kind}`"
            :columns="bandColumns(series.data.value.unit)"
            :rows="bandRows(series.data.value)"
            :query="`/api/overview/series?of=${of}&id=${id}&kind=${data.kind}&from=${asked.from}&to=${asked.to}&points=160`"
            :chart="{ together: { of, id, probes: data.kind } }"
          />
        </template>
        <PointsTable :id="id" :of="of" :kind="data.kind" :targets="data.targets" :name="data.name" />
        <MembersTable :members="data.members" :kind="data.kind" :of="of" :name="data.name" />
        <FailedRuns :id="id" :of="of" />
      </div>
      <OverviewFigures :id="id" :overview="data" :of="of" />
    </div>
  </template>
</template>
