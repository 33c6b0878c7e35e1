<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { RouterLink, useRoute } from 'vue-router'

import { api, answered } from '@/api/client'
import { useClock } from '@/app/clock'
import { duration, full, moment, ms, written } from '@/app/format'
import { useFresh } from '@/app/fresh'
import { usePage } from '@/app/page'
import ChartTools from '@/parts/ChartTools.vue'
import BandPlot from '@/parts/BandPlot.vue'
import Dome from '@/parts/Dome.vue'
import PhasePlot from '@/parts/PhasePlot.vue'
import Track from '@/parts/Track.vue'
import TrackAxis from '@/parts/TrackAxis.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'
import { phaseColour, phaseLabel } from '@/parts/phases'
import { bandColumns, bandRows } from '@/parts/plot'

import FactTracks from './FactTracks.vue'
import LatestRuns from './LatestRuns.vue'
import StateTrack from './StateTrack.vue'
import StreamFigures from './StreamFigures.vue'

/* The main quantity over a track, in two words. */
const MAIN: Record<string, string> = {
  rtt: 'Round trip',
  connect: 'Connect time',
  lookup: 'Answer time',
  load: 'Loading',
  mos: 'Score (MOS)',
  scheduling_lag: 'Wakes late by',
  throughput: 'Throughput',
  total: 'Total time',
}
/* Slices of the main chart: a few pixels each. */
const POINTS = 240
const id = Number(useRoute().params.stream)
const { asked, window, now, instant, against, againstWords } = useClock()
useFresh((stream) => stream === id)

/* All of the screen in one question: what its parts rest on is read once, and drawn once. */
const path = { stream: id }
const page = useQuery({
  queryKey: ['stream', id, asked],
  queryFn: () =>
    answered(api.GET('/api/streams/{stream}/page', { params: { path, query: { ...asked.value, points: POINTS } } })),
})
const about = computed(() => page.data.value?.stream)
const series = computed(() => page.data.value?.series)
const usual = computed(() => page.data.value?.usual)
const before = useQuery({
  queryKey: ['before', id, against],
  queryFn: () =>
    answered(
      api.GET('/api/streams/{stream}/series', {
        params: {
          path,
          query: {
            from: new Date(against.value?.from ?? 0).toISOString(),
            to: new Date(against.value?.to ?? 0).toISOString(),
            points: POINTS,
          },
        },
      }),
    ),
  enabled: computed(() => against.value !== null),
})
usePage(
  () => about.value?.probe ?? 'Stream',
  () => (about.value ? `from ${about.value.vantage_point}, ${about.value.kind_label}` : ''),
)

/* The slice under the instant, or the newest that holds anything. */
const index = computed(() => {
  const data = series.value
  if (!data) return -1
  const starts = data.starts.map(ms)
  if (instant.value !== null) {
    const at = instant.value
    return starts.findLastIndex((start) => start <= at)
  }
  return data.p50.findLastIndex((value) => value !== null)
})
const value = computed(() => written(series.value?.p50[index.value], about.value?.unit ?? 'ms'))
const phaseNames = computed(() => (about.value?.phases ?? []).filter((name) => series.value?.phases[name]))
/* As they are stacked, the last on top. */
const phases = computed(() =>
  [...phaseNames.value]
    .reverse()
    .map((name) => ({ name, figure: written(series.value?.phases[name]?.[index.value], 'ms').figure })),
)
/* The band and its phases as one table. */
const rows = computed(() =>
  bandRows(series.value).map((row, at) => [
    ...row,
    ...phaseNames.value.map((name) => series.value?.phases[name]?.[at]),
  ]),
)
const columns = computed(() => [
  ...bandColumns(series.value?.unit ?? ''),
  ...phaseNames.value.map((name) => `${phaseLabel(name)}, mean, ms`),
])
/* What is no number: states and facts, each from when until when. */
const TRACK_COLUMNS = ['from', 'until', 'what', 'value']
const trackRows = computed(() => [
  ...(series.value?.spans ?? []).map((one) => [one.from, one.to, 'state', one.state]),
  ...(page.data.value?.facts ?? []).map((one) => [one.from, one.to ?? asked.value.to, one.name, one.value]),
])
const chart = computed(() => ({ streams: [id], quantity: about.value?.main ?? null }))
const pinnable = computed(() =>
  phaseNames.value.length
    ? [
        { key: '', label: MAIN[about.value?.main ?? ''] ?? about.value?.main_label ?? '' },
        ...phaseNames.value.map((name) => ({ key: name, label: phaseLabel(name) })),
      ]
    : [],
)
/* The same probe from elsewhere: those that are nearest in what they measure. */
const peers = computed(() => [id, ...(about.value?.peers ?? [])].join(','))
const total = computed(() => series.value?.counts.reduce((sum, count) => sum + count, 0) ?? 0)
const since = computed(() => (about.value ? moment(ms(about.value.since), now.value) : ''))
/* What is usual at the hour of the instant, or of now. */
const isUsualKnown = computed(() => usual.value?.low.some((one) => one !== null) ?? false)
const usually = computed(() => {
  const told = usual.value
  const at = instant.value ?? now.value
  const hour = told?.starts.findLastIndex((start) => ms(start) <= at) ?? -1
  const [low, high] = [told?.low[hour], told?.high[hour]]
  if (!told || low == null || high == null) return null
  const [from, to] = [written(Math.max(low, 0), told.unit).figure, written(high, told.unit).figure]
  const name = `${new Date(at).toLocaleDateString('en-GB', { weekday: 'long' })}s at ${new Date(at).getHours()}:00`
  return {
    told: from === to ? `usually ${from}` : low <= 0 ? `usually up to ${to}` : `usually ${from} to ${to}`,
    hover: `Usual for ${name}: ${from} to ${to} ${told.unit}, from ${(told.counts[hour] ?? 0).toLocaleString('en-GB')} values. ${told.method}.`,
  }
})
const every = computed(() => (about.value ? duration(about.value.interval_s * 1000) : ''))
const slice = computed(() => {
  const data = series.value
  if (!data || !about.value) return ''
  return data.width_s > about.value.interval_s ? `per ${duration(data.width_s * 1000)}` : 'every run'
})
</script>

<template>
  <Trouble v-if="page.isError.value" what="This stream" :error="page.error.value" @again="page.refetch()" />
  <Waiting v-if="page.isPending.value" what="Reading the stream." />
  <template v-if="about">
    <p class="my-[11px] text-[16.5px] leading-[1.36] text-pretty">
      <Dome :state="about.state" :width="20" class="mr-[3px]" />
      <b :title="full(ms(about.since))">
        {{ about.sentence
        }}<template v-if="about.state === 'silent' && about.last_run">
          for {{ duration(now - ms(about.last_run)) }}</template
        ><template v-else-if="about.state !== 'silent'">, since {{ since }}</template
        >.
      </b>
      <template v-if="!about.is_active"> It is not measured any more; this is its history.</template>
      <template v-else-if="!about.last_run"> No answer yet, the first is due within {{ every }}.</template>
      <template v-else-if="about.limits.length === 0"> It has no limits: only failed runs count against it.</template>
    </p>
    <div class="grid grid-cols-[minmax(0,1fr)_330px] gap-x-8 max-[1100px]:block">
      <div>
        <div class="flex items-baseline gap-3.5 border-b border-rule-strong pb-1 max-phone:flex-wrap max-phone:gap-y-1">
          <h2 class="heading min-w-0 flex-1 truncate first-letter:uppercase" :title="about.schedule">
            {{ about.schedule }}, on one clock
          </h2>
          <span class="flex flex-wrap items-center gap-1.5 text-2 whitespace-nowrap text-ink-2">
            <i class="inline-block w-4 border-t-2 border-line" />median
            <i class="ml-1.5 inline-block h-[9px] w-4 border-t border-line bg-line/15" />p5 to p95
            <template v-if="against"
              ><i class="ml-1.5 inline-block w-4 border-t-2 border-dashed border-ghost" /><span
                class="text-ghost-ink"
                >{{ againstWords }}</span
              ></template
            >
            <template v-if="isUsualKnown"><i class="ml-1.5 inline-block h-2.5 w-4 bg-usual" />usual</template>
            <i class="ml-1.5 inline-block h-2.5 w-0 border-l-2 border-breached" />no good answer
            <i class="hatched ml-1.5 inline-block h-2.5 w-4" />no result
          </span>
        </div>
        <ChartTools
          v-if="series"
          :name="`${about.probe} from ${about.vantage_point}`"
          :columns="columns"
          :rows="rows"
          :query="`/api/streams/${id}/series?from=${asked.from}&to=${asked.to}&points=${POINTS}`"
          :chart="chart"
          :others="pinnable"
          class="mt-1"
        >
          <RouterLink :to="`/compare?streams=${peers}`" class="go">compare with its peers</RouterLink>
          <RouterLink :to="`/targets/${about.target_id}`" class="go">{{ about.target }}</RouterLink>
          <RouterLink :to="`/vantage-points/${about.vantage_point_id}`" class="go">{{
            about.vantage_point
          }}</RouterLink>
        </ChartTools>
        <template v-if="series">
          <Track :name="MAIN[about.main] ?? about.main_label" :note="slice" :stretch="window" :height="128">
            <BandPlot
              :series="series"
              :stretch="window"
              :limits="about.limits"
              :main="about.main"
              :usual="usual"
              :before="against ? before.data.value : undefined"
            />
            <p v-if="total === 0" class="absolute inset-x-0 top-1/2 text-center text-2 text-ink-2">
              Nothing measured in this window.
              <template v-if="about.last_run">The last result is of {{ moment(ms(about.last_run), now) }}.</template>
            </p>
            <template #value>
              <b class="font-mid"
                >{{ value.figure }}<span class="unit">{{ value.unit }}</span></b
              >
              <span class="block text-1 text-ink-3">{{ instant === null ? 'newest' : 'at the instant' }}</span>
              <span v-if="usually" class="block text-1 whitespace-normal text-ink-2" :title="usually.hover">{{
                usually.told
              }}</span>
            </template>
          </Track>
          <Track v-if="phases.length" name="Phases" note="mean" :stretch="window" :height="88">
            <PhasePlot :series="series" :phases="phaseNames" :stretch="window" />
            <template #value>
              <span v-for="one in phases" :key="one.name" class="flex items-center text-1 leading-[15.5px] text-ink-2">
                <i class="mr-1 inline-block size-[7px]" :style="{ background: phaseColour(one.name) }" />{{
                  phaseLabel(one.name)
                }}
                <span class="flex-1" />{{ one.figure }}
              </span>
            </template>
          </Track>
          <StateTrack :spans="series.spans" :stretch="window" />
          <FactTracks :facts="page.data.value?.facts ?? []" :stretch="window" />
          <TrackAxis :stretch="window" />
          <ChartTools
            :name="`${about.probe} from ${about.vantage_point}`"
            what="states and facts"
            :columns="TRACK_COLUMNS"
            :rows="trackRows"
            :times="2"
            :query="`/api/streams/${id}/page?from=${asked.from}&to=${asked.to}&points=${POINTS}`"
            class="mt-1"
          />
          <p v-if="series.is_generated" class="text-1 text-ink-3">
            Part of this window is made-up history of the demo, not measured.
          </p>
        </template>
        <LatestRuns
          v-if="page.data.value"
          :stream="about"
          :newest="page.data.value.runs"
          :usual-phases="page.data.value.figures.usual_phases"
        />
      </div>
      <StreamFigures
        v-if="page.data.value"
        :stream="about"
        :figures="page.data.value.figures"
        :changes="page.data.value.changes"
      />
    </div>
  </template>
</template>
