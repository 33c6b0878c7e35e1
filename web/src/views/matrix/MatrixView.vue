<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, nextTick, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'

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

import CellPopover from './CellPopover.vue'
import MatrixRow from './MatrixRow.vue'
import { arranged, TINTS, type Cell } from './arrangement'

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

const router = useRouter()
const { asked, askedAgainst, against, againstWords, now, words } = useClock()
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
/* Many targets stand closer, and the places of vantage points give them their room. */
const isDense = computed(() => (table.value?.columns.length ?? 0) > 9)
const leading = computed(() => (isDense.value ? 1 : 2))
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

/* The popover of the cell that is pointed at or focused. */
const box = useTemplateRef<HTMLElement>('box')
const looked = ref<{ cell: Cell; left: number; top: number; bottom: number } | null>(null)
let timer = 0
interface Pointed {
  cell: Cell
  element: HTMLElement
  row: number
  column: number
}
const rows = computed(() => (table.value?.groups ?? []).flatMap((group) => group.rows))
function cellOf(event: Event): Pointed | null {
  const element = (event.target as HTMLElement).closest<HTMLElement>('[data-cell]')
  const [row = -1, column = -1] = (element?.dataset.cell ?? '').split('-').map(Number)
  const cell = rows.value[row]?.byColumn[column]
  return element && cell ? { cell, element, row, column } : null
}
function onClick(event: MouseEvent): void {
  const found = cellOf(event)
  if (found) openCell(found.cell)
}
function onKey(event: KeyboardEvent): void {
  const found = cellOf(event)
  if (!found) return
  if (event.key === 'Enter') openCell(found.cell)
  else void walk(event, found.row, found.column)
}
function onOver(event: PointerEvent): void {
  const found = cellOf(event)
  if (found) look(found, 150)
}
function onFocus(event: FocusEvent): void {
  const found = cellOf(event)
  if (found) look(found, 0)
}
function look({ cell, element }: Pointed, wait: number): void {
  clearTimeout(timer)
  timer = window.setTimeout(() => {
    const frame = box.value?.getBoundingClientRect()
    const bounds = element.getBoundingClientRect()
    if (!frame) return
    looked.value = {
      cell,
      left: bounds.left - frame.left,
      top: bounds.top - frame.top,
      bottom: bounds.bottom - frame.top,
    }
  }, wait)
}
function lookAway(): void {
  clearTimeout(timer)
  timer = window.setTimeout(() => (looked.value = null), 180)
}
function stay(): void {
  clearTimeout(timer)
}

function openCell(cell: Cell): void {
  const stream = cell.shown ?? cell.streams[0]?.stream
  if (stream) void router.push(`/streams/${stream}`)
}

/* Arrow keys walk the cells. */
const at = ref({ row: 0, column: 0 })
async function walk(event: KeyboardEvent, row: number, column: number): Promise<void> {
  const step = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[event.key]
  if (event.key === 'Escape') looked.value = null
  if (!step) return
  event.preventDefault()
  const [down = 0, right = 0] = step
  for (let distance = 1; distance < 50; distance++) {
    const next = box.value?.querySelector<HTMLElement>(
      `[data-cell="${row + down * distance}-${column + right * distance}"]`,
    )
    if (!next) continue
    at.value = { row: row + down * distance, column: column + right * distance }
    await nextTick()
    next.focus()
    return
  }
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
  <div v-else-if="table && data" ref="box" class="relative">
    <div class="overflow-x-auto" @scroll="looked = null">
      <table class="w-full border-collapse">
        <thead>
          <tr>
            <th :colspan="leading" class="border-b border-rule-strong pb-1 align-bottom text-2 font-bold">
              worst first
              <svg class="inline-block align-[-1px]" width="8" height="10" viewBox="0 0 8 10" aria-hidden="true">
                <path d="M4 0V9M1 6L4 9L7 6" fill="none" stroke="currentColor" stroke-width="1.4" />
              </svg>
            </th>
            <th
              v-for="column in table.columns"
              :key="column.id"
              class="border-b border-rule-strong pb-1 text-right align-bottom text-2 leading-[15px]"
              :class="[
                isDense ? 'pr-1' : 'pr-[9px]',
                { 'shadow-[inset_0_-2px_0_var(--ink)]': looked?.cell.target === column.id },
              ]"
              :title="column.description"
            >
              {{ column.name }}<br /><span class="text-ink-3">{{ column.heading }}</span>
            </th>
            <th class="border-b border-rule-strong pb-1 text-right align-bottom text-2 leading-[15px]">
              not fine<br /><span class="text-ink-3">of its streams</span>
            </th>
            <th
              v-if="isHeld"
              class="border-b border-rule-strong pb-1 pl-3 text-right align-bottom text-2 leading-[15px]"
            >
              worst<br /><span class="text-ink-3">against {{ against ? 'then' : 'usual' }}</span>
            </th>
          </tr>
        </thead>
        <!-- One listener for all cells, and rows that are drawn anew only when they change: there may be ten thousand. -->
        <tbody
          v-for="group in table.groups"
          :key="group.name"
          @click="onClick"
          @keydown="onKey"
          @pointerover="onOver"
          @pointerout="lookAway"
          @focusin="onFocus"
          @focusout="lookAway"
        >
          <tr v-if="group.name">
            <th
              :colspan="leading + table.columns.length + (isHeld ? 2 : 1)"
              class="h-[27px] border-b border-rule-strong pb-0.5 align-bottom text-2 whitespace-nowrap"
            >
              <b class="mr-1.5 text-3">{{ group.name }}</b>
              <span :class="group.ink">{{ group.told }}</span>
            </th>
          </tr>
          <MatrixRow
            v-for="row in group.rows"
            :key="row.id"
            :row="row"
            :columns="table.columns"
            :is-dense="isDense"
            :reached="at.row === row.index ? at.column : -1"
            :is-looked="looked?.cell.vantage_point === row.id"
            :is-held="isHeld"
            :minute="row.isSilent ? Math.floor(now / 60_000) : 0"
          />
        </tbody>
        <tfoot>
          <tr class="text-2">
            <th :colspan="leading" class="h-7 text-ink-2">not fine</th>
            <td
              v-for="column in table.columns"
              :key="column.id"
              class="text-right"
              :class="isDense ? 'pr-1' : 'pr-[9px]'"
            >
              <span :class="column.summary.not_fine ? 'font-bold text-ink' : 'text-ink-3'">{{
                column.summary.not_fine
              }}</span>
              <span class="text-ink-3"> of {{ column.summary.streams }}</span>
            </td>
            <td class="text-right">
              <b>{{ data.whole.not_fine }}</b> <span class="text-ink-3">of {{ data.whole.streams }}</span>
            </td>
            <td v-if="isHeld" />
          </tr>
        </tfoot>
      </table>
    </div>
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
    <CellPopover
      v-if="looked"
      :key="`${looked.cell.vantage_point}-${looked.cell.target}`"
      :cell="looked.cell"
      :matrix="data"
      :left="looked.left"
      :top="looked.top"
      :bottom="looked.bottom"
      @pointerenter="stay"
      @pointerleave="lookAway"
    />
  </div>
</template>
