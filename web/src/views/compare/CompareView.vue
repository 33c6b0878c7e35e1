<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { api, answered, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { duration, signed, written } from '@/app/format'
import { useFresh } from '@/app/fresh'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import ChartTools from '@/parts/ChartTools.vue'
import Choice from '@/parts/Choice.vue'
import Dome from '@/parts/Dome.vue'
import Figure from '@/parts/Figure.vue'
import LinesPlot, { type Line } from '@/parts/LinesPlot.vue'
import Track from '@/parts/Track.vue'
import TrackAxis from '@/parts/TrackAxis.vue'
import Trouble from '@/parts/Trouble.vue'
import { SERIES } from '@/parts/plot'

const MOST = 6
const STATISTICS = [
  { key: 'p50', label: 'median' },
  { key: 'p95', label: 'p95' },
  { key: 'mean', label: 'mean' },
  { key: 'availability', label: 'availability' },
] as const

const { asked, window, against, againstWords } = useClock()
usePage(
  () => 'Compare',
  () => 'one chart, one table, and what chance leaves open',
)
const kept = useKept<string>('streams', '')
const statistic = useKept('statistic', 'p50', ['p50', 'p95', 'mean', 'availability'])
const ids = computed(() => [...new Set(kept.value.split(',').map(Number).filter(Boolean))].slice(0, MOST))
useFresh((stream) => ids.value.includes(stream), 5000)

const all = useQuery({ queryKey: ['streams'], queryFn: () => answered(api.GET('/api/streams')), staleTime: 60_000 })
const byId = computed(() => new Map((all.data.value ?? []).map((one) => [one.stream, one])))
const first = computed(() => byId.value.get(ids.value[0] ?? 0))
const other = computed(() => against.value ?? { from: 2 * window.value.from - window.value.to, to: window.value.from })
const otherWords = computed(() => (against.value ? againstWords.value : 'the stretch before'))

const found = useQuery({
  queryKey: ['comparison', ids, statistic, asked, other],
  queryFn: () =>
    answered(
      api.GET('/api/query/comparison', {
        params: {
          query: {
            ...asked.value,
            streams: ids.value,
            statistic: statistic.value,
            other_from: new Date(other.value.from).toISOString(),
            other_to: new Date(other.value.to).toISOString(),
          },
        },
      }),
    ),
  enabled: computed(() => ids.value.length > 0),
})
/* A line of availability would be a row of ones: the share of good runs is told by the table alone. */
const column = computed(() => (statistic.value === 'availability' ? 'p50' : statistic.value))
function slices(stretch: { from: string; to: string }, streams: number[]) {
  return answered(
    api.GET('/api/query/windows', {
      params: { query: { ...stretch, streams, statistics: [column.value], points: 160 } },
    }),
  )
}
const series = useQuery({
  queryKey: ['compared series', ids, column, asked],
  queryFn: () => slices(asked.value, ids.value),
  enabled: computed(() => ids.value.length > 0),
})
const before = useQuery({
  queryKey: ['compared before', ids, column, against],
  queryFn: () =>
    slices(
      {
        from: new Date(against.value?.from ?? 0).toISOString(),
        to: new Date(against.value?.to ?? 0).toISOString(),
      },
      ids.value.slice(0, 1),
    ),
  enabled: computed(() => against.value !== null && ids.value.length > 0),
})
const lines = computed(() => {
  const data = series.data.value
  const told: Line[] = (data?.streams ?? []).map((one) => ({
    key: one.stream,
    starts: data?.starts ?? [],
    widthS: data?.width_s ?? 0,
    values: one.columns[column.value] ?? [],
    colour: SERIES[ids.value.indexOf(one.stream)] ?? 'var(--ink)',
  }))
  const then = before.data.value
  if (against.value && then)
    told.push(
      ...then.streams.map((one) => ({
        key: one.stream,
        starts: then.starts,
        widthS: then.width_s,
        values: one.columns[column.value] ?? [],
        colour: 'var(--ghost)',
        shift: window.value.from - (against.value?.from ?? 0),
        isBefore: true,
      })),
    )
  return told
})
const table = computed(() =>
  (series.data.value?.starts ?? []).map((start, index) => [
    start,
    ...(series.data.value?.streams ?? []).map((one) => one.columns[column.value]?.[index]),
  ]),
)
function named(id: number): string {
  const one = byId.value.get(id)
  return one ? `${one.vantage_point} to the ${one.target}` : String(id)
}

/* Choosing: by name, or what shares the target or the vantage point with the first. */
const text = ref('')
const offers = computed(() => {
  const words = text.value.toLowerCase().split(/\s+/).filter(Boolean)
  if (!words.length) return []
  return (all.data.value ?? [])
    .filter((one) => !ids.value.includes(one.stream))
    .filter((one) => !first.value || one.kind === first.value.kind)
    .filter((one) =>
      words.every((word) =>
        `${one.vantage_point} ${one.target} ${one.probe} ${one.provider}`.toLowerCase().includes(word),
      ),
    )
    .slice(0, 8)
})
function add(id: number): void {
  kept.value = [...ids.value, id].join(',')
  text.value = ''
}
function drop(id: number): void {
  kept.value = ids.value.filter((one) => one !== id).join(',')
}
function peersBy(side: 'target' | 'vantage_point'): void {
  const own = first.value
  if (!own) return
  const fits = (one: Shapes['StreamName']) =>
    one.stream !== own.stream &&
    one.kind === own.kind &&
    one[side] === own[side] &&
    (side === 'vantage_point' || one.probe === own.probe)
  // Those of the same provider first: a colleague who shares the line says most.
  const peers = (all.data.value ?? [])
    .filter(fits)
    .sort((one, another) => Number(another.provider === own.provider) - Number(one.provider === own.provider))
  kept.value = [own.stream, ...peers.map((one) => one.stream)].slice(0, MOST).join(',')
}
function told(one: Shapes['DifferenceShape'] | null, unit: string): string {
  if (!one) return '–'
  return unit === '1' ? `${signed(one.value * 100, '')}points` : signed(one.value, unit)
}
function bounds(one: Shapes['DifferenceShape'] | null, unit: string): string {
  if (!one || one.low === null || one.high === null) return ''
  const factor = unit === '1' ? 100 : 1
  const figure = (value: number) => signed(value * factor, unit === '1' ? '' : unit).trim()
  return `${figure(one.low).replace(/ \S+$/, '')} to ${figure(one.high)}`
}
const unit = computed(() => found.data.value?.streams[0]?.now.unit ?? '')
const value = computed(() => {
  const own = found.data.value?.streams[0]?.now
  return written(own?.value, own?.unit ?? '')
})
</script>

<template>
  <div class="mt-3 mb-2 flex flex-wrap items-center gap-x-2.5 gap-y-1.5">
    <Choice v-model="statistic" :options="STATISTICS" label="statistic" />
    <template v-if="first">
      <button class="go ml-3 text-2" @click="peersBy('target')">same target, other vantage points</button>
      <button class="go text-2" @click="peersBy('vantage_point')">same vantage point, other targets</button>
    </template>
    <span class="flex-1" />
    <div v-if="ids.length < MOST" class="relative">
      <input
        v-model="text"
        class="h-7 w-56 border-b border-rule-strong bg-transparent px-1 text-2 placeholder:text-ink-3"
        placeholder="add a stream by its names"
        aria-label="Add a stream by its names"
        @keydown.enter="offers[0] && add(offers[0].stream)"
        @keydown.esc="text = ''"
      />
      <ul v-if="text" class="lifted absolute right-0 z-20 mt-1 w-[360px] py-1">
        <li v-for="one in offers" :key="one.stream">
          <button
            class="flex w-full justify-between gap-3 px-3 text-left text-2 leading-[25px] hover:bg-accent-wash focus:bg-accent-wash"
            @click="add(one.stream)"
          >
            <span class="truncate"
              ><Dome :state="one.state" :width="12" /> {{ one.vantage_point }} to the {{ one.target }}</span
            >
            <span class="text-ink-3">{{ one.probe }}</span>
          </button>
        </li>
        <li v-if="offers.length === 0" class="px-3 py-1 text-2 text-ink-2">
          No stream {{ first ? `of the kind ${first.kind_label} ` : '' }}is called that.
        </li>
      </ul>
    </div>
  </div>
  <p v-if="ids.length === 0" class="max-w-[56ch] py-6 text-ink-2">
    <b class="block text-4 text-ink">Nothing is chosen yet.</b>
    Up to six streams stand here in one chart, and their differences with what chance leaves open. Add one by its names
    above, or come from a stream's page by “compare with its peers”.
  </p>
  <template v-else>
    <Trouble v-if="series.isError.value" what="The series" :error="series.error.value" @again="series.refetch()" />
    <template v-if="series.data.value">
      <Track
        :name="STATISTICS.find((one) => one.key === column)?.label ?? ''"
        :note="`per ${duration(series.data.value.width_s * 1000)}`"
        :stretch="window"
        :height="190"
      >
        <LinesPlot :lines="lines" :stretch="window" :unit="series.data.value.unit" />
        <template #value>
          <b class="font-mid"
            >{{ value.figure }}<span class="unit">{{ value.unit }}</span></b
          >
          <span class="block text-1 text-ink-3">the first, in all</span>
          <span v-if="against" class="block text-1 whitespace-normal text-ghost-ink"
            >dashed: the first, {{ againstWords }}</span
          >
        </template>
      </Track>
      <TrackAxis :stretch="window" />
      <ChartTools
        :name="`comparison of ${ids.length} streams`"
        :columns="['from', ...series.data.value.streams.map((one) => named(one.stream))]"
        :rows="table"
        :query="`/api/query/windows?${ids.map((one) => `streams=${one}`).join('&')}&statistics=${column}&from=${asked.from}&to=${asked.to}&points=160`"
        :chart="{ streams: ids, quantity: series.data.value.quantity }"
      />
    </template>
    <Trouble v-if="found.isError.value" what="The comparison" :error="found.error.value" @again="found.refetch()" />
    <div class="mt-4 overflow-x-auto">
      <table v-if="found.data.value" class="w-full border-collapse">
        <thead class="text-2 text-ink-3">
          <tr>
            <th class="py-1" />
            <th class="text-right">this window</th>
            <th class="text-right">against the first</th>
            <th class="text-right">95 % interval</th>
            <th class="text-right text-ghost-ink">{{ otherWords }}</th>
            <th class="text-right">change</th>
            <th class="text-right">95 % interval</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <tr v-for="(one, index) in found.data.value.streams" :key="one.stream" class="leading-[27px]" data-compared>
            <td class="border-t border-rule">
              <i
                class="mr-2 inline-block w-4 align-middle"
                :class="index ? 'border-t-2' : 'border-t-[3px]'"
                :style="{ borderColor: SERIES[ids.indexOf(one.stream)] }"
              />
              <Dome :state="one.state" :width="12" class="mr-1" />
              <RouterLink :to="`/streams/${one.stream}`" class="hover:underline">{{ named(one.stream) }}</RouterLink>
              <span class="ml-2 text-2 text-ink-3">{{ one.probe }}, {{ one.provider }}</span>
            </td>
            <td class="border-t border-rule text-right font-mid"><Figure :of="one.now" /></td>
            <td
              class="border-t border-rule text-right whitespace-nowrap"
              :class="one.from_first?.is_clear ? 'font-mid' : 'text-ink-3'"
            >
              {{ index ? told(one.from_first, unit) : 'the first' }}
            </td>
            <td class="border-t border-rule text-right text-2 whitespace-nowrap text-ink-3">
              {{ bounds(one.from_first, unit) }}
            </td>
            <td class="border-t border-rule text-right text-ghost-ink"><Figure :of="one.before" /></td>
            <td
              class="border-t border-rule text-right whitespace-nowrap"
              :class="one.difference?.is_clear ? 'font-mid' : 'text-ink-3'"
            >
              {{ told(one.difference, unit) }}
            </td>
            <td class="border-t border-rule text-right text-2 whitespace-nowrap text-ink-3">
              {{ bounds(one.difference, unit) }}
            </td>
            <td class="border-t border-rule pl-3 text-right">
              <button class="go text-2" :aria-label="`Take ${named(one.stream)} out`" @click="drop(one.stream)">
                ×
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="found.data.value" class="mt-1.5 text-2 text-ink-3">
      Bold differences lie outside what chance would make. {{ found.data.value.method }}.
    </p>
  </template>
</template>
