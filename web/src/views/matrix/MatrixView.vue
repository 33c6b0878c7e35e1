<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, answered } from '@/api/client'
import { useClock } from '@/app/clock'
import { useFresh } from '@/app/fresh'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import Choice from '@/parts/Choice.vue'
import Pick from '@/parts/Pick.vue'
import Dome from '@/parts/Dome.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

import { download } from '@/app/csv'
import SaveView from '@/parts/SaveView.vue'

import MatrixTable from './MatrixTable.vue'
import { arranged, TINTS } from './arrangement'

const MEASURES = [
  { key: 'p95', label: 'p95', title: '95th percentile of the window (5th where less is worse)' },
  { key: 'p50', label: 'median', title: '50th percentile of the window' },
  { key: 'p99', label: 'p99', title: '99th percentile of the window (1st where less is worse)' },
  { key: 'mean', label: 'mean', title: 'mean over the runs that were ok' },
  { key: 'worst', label: 'worst', title: 'the worst run of the window' },
  { key: 'loss', label: 'loss', title: 'share of packets lost, by reach probes' },
  { key: 'availability', label: 'availability', title: 'share of runs that were ok' },
] as const
const ROWS = [
  { key: 'provider', label: 'provider' },
  { key: 'place', label: 'place' },
  { key: 'country', label: 'country' },
  { key: 'kind', label: 'kind' },
  { key: 'subnet', label: 'subnet' },
  { key: 'person', label: 'person' },
  { key: 'tag', label: 'tag' },
  { key: 'none', label: 'worst first' },
] as const

const { asked, askedAgainst, against, againstWords, words } = useClock()
useFresh(() => true, 5000)

const measure = useKept(
  'measure',
  'p95',
  MEASURES.map((one) => one.key),
)
const kind = useKept<string>('probes', 'any')
const rowsBy = useKept(
  'rows',
  'provider',
  ROWS.map((one) => one.key),
)
const search = useKept<string>('find', '')

const kinds = useQuery({
  queryKey: ['kinds'],
  queryFn: () => answered(api.GET('/api/probe-kinds')),
  staleTime: Infinity,
})
const probes = useQuery({
  queryKey: ['probes'],
  queryFn: () => answered(api.GET('/api/probes')),
  refetchInterval: 30_000,
})
/* Only kinds that some probe is of; the chosen one stays, or nobody could leave it. */
const kindChoices = computed(() => {
  const used = new Set([...(probes.data.value ?? []).map((one) => one.kind), kind.value])
  const shown = (kinds.data.value ?? []).filter((one) => used.has(one.name))
  return [{ key: 'any', label: 'any' }, ...shown.map((one) => ({ key: one.name, label: one.label }))]
})
/* Of which quantity a percentile, mean or worst is: of those of the chosen kind, or of each kind's main one. */
const figure = useKept<string>('figure', '')
const isShare = computed(() => measure.value === 'loss' || measure.value === 'availability')
const figureChoices = computed(() => {
  const own = kinds.data.value?.find((one) => one.name === kind.value)
  if (!own) return []
  const others = Object.keys(own.quantities).filter((name) => name !== own.main)
  return [
    { key: '', label: own.labels[own.main] ?? own.main },
    ...others.map((name) => ({ key: name, label: own.labels[name] ?? name })),
  ]
})
const quantity = computed(() =>
  !isShare.value && figureChoices.value.some((one) => one.key === figure.value) && figure.value ? figure.value : null,
)
const matrix = useQuery({
  queryKey: ['matrix', measure, kind, quantity, asked, askedAgainst],
  queryFn: () =>
    answered(
      api.GET('/api/matrix', {
        params: {
          query: {
            ...asked.value,
            ...askedAgainst.value,
            measure: measure.value,
            kind: kind.value === 'any' ? null : kind.value,
            quantity: quantity.value,
          },
        },
      }),
    ),
  // Whether the kind measures what the address names is not known before its kinds are.
  enabled: computed(() => !figure.value || kinds.data.value !== undefined),
})

const data = computed(() => matrix.data.value)
const table = computed(() => (data.value ? arranged(data.value, rowsBy.value, search.value) : null))
/* Held against its usual or another window; of most quantities what is usual is not known. */
const isHeld = computed(
  () =>
    against.value !== null ||
    isShare.value ||
    (!quantity.value && (measure.value === 'p95' || measure.value === 'p50')),
)
usePage(
  () => 'Matrix',
  () =>
    data.value
      ? `${data.value.rows.length} vantage points, ${data.value.columns.length} targets, ${data.value.whole.not_fine} of ${data.value.whole.streams} streams not fine`
      : '',
)

function take(): void {
  if (!table.value || !data.value) return
  const columns = table.value.columns
  download(`matrix ${measure.value} ${quantity.value ?? ''} ${words.value}`.replace('  ', ' '), [
    [
      'vantage point',
      'provider',
      'place',
      'country',
      'person',
      ...columns.flatMap((one) => [one.name, `${one.name}: unit`, `${one.name}: state`]),
    ],
    ...table.value.groups.flatMap((group) =>
      group.rows.map((row) => [
        row.name,
        row.provider,
        row.place,
        row.country,
        row.person,
        ...row.byColumn.flatMap((cell) =>
          cell ? [cell.figure.value, cell.figure.unit, cell.state] : ['', '', 'no probe'],
        ),
      ]),
    ),
  ])
}
</script>

<template>
  <div class="mt-[11px] mb-2 flex flex-wrap items-center gap-x-2.5 gap-y-1.5">
    <Choice v-model="measure" :options="MEASURES" label="measure" />
    <Pick v-model="kind" :options="kindChoices" label="probes" spoken="kind of probe" />
    <Pick
      v-if="figureChoices.length && !isShare"
      v-model="figure"
      :options="figureChoices"
      label="of"
      spoken="figure"
    />
    <Pick v-model="rowsBy" :options="ROWS" label="rows by" />
    <span class="flex-1" />
    <button class="go text-2" title="What is shown, as a file" @click="take">CSV</button>
    <SaveView />
    <input
      v-model="search"
      class="h-7 w-40 border-b border-rule-strong bg-transparent px-1 text-2 placeholder:text-ink-3"
      placeholder="narrow by name or place"
      aria-label="Narrow by name or place"
    />
  </div>

  <Trouble v-if="matrix.isError.value" what="The matrix" :error="matrix.error.value" @again="matrix.refetch()" />
  <Waiting v-if="matrix.isPending.value" what="Reading every vantage point towards every target." />

  <div v-if="table && data && data.rows.length === 0" class="max-w-[56ch] py-6 text-ink-2">
    <b class="block text-4 text-ink">Nothing is measured yet{{ kind === 'any' ? '' : ' by this kind of probe' }}.</b>
    A cell appears here for each vantage point that runs a probe towards a target.
    <RouterLink to="/vantage-points?put=yes" class="go">Put an agent on a machine</RouterLink>, then add a
    <RouterLink to="/targets" class="go">target</RouterLink> and a
    <RouterLink to="/probes/new" class="go">probe</RouterLink>.
  </div>
  <div v-else-if="table && data">
    <MatrixTable :table="table" :matrix="data" :is-held="isHeld" />
    <p v-if="table.groups.length === 0" class="py-4 text-ink-2">
      No vantage point or target is called that. <button class="go" @click="search = ''">Show all</button>
    </p>
    <p class="mt-1.5 flex flex-wrap gap-x-[18px] text-2 text-ink-2">
      <span>{{ table.caption }}</span>
      <span v-if="!isHeld">no tint: what is usual is known of medians and p95 of the main figure alone</span>
      <span v-if="isHeld"
        ><i class="mr-1 inline-block h-2.5 w-4 bg-faster-2" /><i
          class="mr-1 inline-block h-2.5 w-4 bg-faster-1"
        />better
      </span>
      <span v-if="isHeld"
        ><i v-for="step in TINTS.slice(3)" :key="step" class="inline-block h-2.5 w-4" :class="step" /> worse than
        {{ against ? againstWords : 'its own usual level' }}</span
      >
      <span><Dome state="degraded" :width="12" /> degraded</span>
      <span><Dome state="breached" :width="12" /> breached</span>
      <span><Dome state="silent" :width="12" /> silent</span>
      <span class="italic">slanted: under 30 samples, too few to say</span>
    </p>
  </div>
</template>
