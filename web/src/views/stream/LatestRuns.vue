<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, answered, type Shapes, type State } from '@/api/client'
import { useClock } from '@/app/clock'
import { clock, full, inWords, moment, ms, unitWords, written } from '@/app/format'
import { useKept } from '@/app/query'
import Choice from '@/parts/Choice.vue'
import Dome from '@/parts/Dome.vue'
import PhaseBar from '@/parts/PhaseBar.vue'
import Trouble from '@/parts/Trouble.vue'

import RunDetail from './RunDetail.vue'

/* `newest` are those of the page; more of them, or the failed ones alone, are asked for here. */
const props = defineProps<{
  stream: Shapes['StreamShape']
  newest: Shapes['RunPage']
  usualPhases: Record<string, number>
}>()
type Run = Shapes['RunShape']
/* As many as the page brings. */
const FIRST = 12

const { asked, now } = useClock()
const only = useKept('runs', 'all', ['all', 'failed'])
const limit = ref(FIRST)
const asksMore = computed(() => only.value === 'failed' || limit.value > FIRST)
const runs = useQuery({
  queryKey: ['runs', props.stream.stream, only, asked, limit],
  queryFn: () =>
    answered(
      api.GET('/api/streams/{stream}/runs', {
        params: {
          path: { stream: props.stream.stream },
          query: { ...asked.value, only: only.value, limit: limit.value },
        },
      }),
    ),
  enabled: asksMore,
})
const opened = useKept<string>('run', '')
const page = computed(() => (asksMore.value && runs.data.value) || props.newest)
/* While the failed ones are asked for, none is shown rather than others. */
const isWaiting = computed(() => only.value === 'failed' && runs.data.value === undefined)
const shown = computed(() => (isWaiting.value ? [] : page.value.runs))
const choices = computed(() => [
  { key: 'all' as const, label: `all ${page.value.total.toLocaleString('en-GB')}` },
  { key: 'failed' as const, label: `failed ${page.value.failed.toLocaleString('en-GB')}` },
])
const own = computed(() => props.stream.limits.find((one) => one.quantity === props.stream.main))
const most = computed(() => {
  const totals = shown.value.map((run) => run.quantities[props.stream.main] ?? 0)
  return Math.max(1e-6, ...totals) * 1.05
})

const STATES: Record<string, State> = { inside: 'fine', between: 'fine', degraded: 'degraded', breached: 'breached' }

/** Why a run is worth a look, in words; nothing for one like all others. */
function told(run: Run): string {
  if (run.detail.agent_busy_lag_us) return 'the agent was too busy to measure truly'
  if (!run.is_ok) {
    const tries = run.attempts.length
    const note = run.attempts.at(-1)?.note
    return `${run.words}${tries > 1 ? `, tried ${tries} times` : ''}${note ? `: ${note}` : ''}`
  }
  const failed = run.attempts.filter((one) => one.reason)
  if (failed.length)
    return `at the ${failed.length === 1 ? '2nd' : `${failed.length + 1}th`} try; before, ${failed[0]?.words}`
  const lost = run.quantities.lost ?? 0
  if (lost > 0) return `${lost} of ${run.quantities.sent} packets lost`
  if (run.level === 'degraded' || run.level === 'breached') return `beyond its ${run.level} limit`
  return run.level === 'between' ? 'beyond its clearing limit' : ''
}

function toggle(run: Run): void {
  opened.value = opened.value === run.time ? '' : run.time
}
function walk(event: KeyboardEvent): void {
  const step = event.key === 'ArrowDown' ? 1 : event.key === 'ArrowUp' ? -1 : 0
  if (event.key === 'Escape') opened.value = ''
  if (!step) return
  event.preventDefault()
  const rows = [...document.querySelectorAll<HTMLElement>('[data-run]')]
  rows[rows.indexOf(event.currentTarget as HTMLElement) + step]?.focus()
}
</script>

<template>
  <div class="mt-[9px] flex items-baseline gap-3.5 border-b border-rule-strong pb-1">
    <h2 class="heading">Latest runs</h2>
    <Choice v-model="only" :options="choices" label="which runs" is-plain class="text-2" />
  </div>
  <Trouble v-if="runs.isError.value" what="The runs" :error="runs.error.value" @again="runs.refetch()" />
  <p v-if="shown.length === 0 && !isWaiting" class="py-3 text-ink-2">
    {{ only === 'failed' ? 'No run failed in this window.' : 'No run in this window. Widen it on the ribbon above.' }}
    <button v-if="only === 'failed'" class="go" @click="only = 'all'">Show all</button>
  </p>
  <ul>
    <li
      v-for="run in shown"
      :key="run.time"
      :class="
        opened === run.time ? '-mx-6 border-y border-b-rule-strong border-t-ink bg-sheet px-6' : 'border-b border-rule'
      "
    >
      <button
        class="grid w-full grid-cols-[22px_64px_76px_132px_minmax(0,1fr)_38px] items-center text-left leading-[23px] max-phone:grid-cols-[22px_64px_76px_minmax(0,1fr)]"
        data-run
        :aria-expanded="opened === run.time"
        @click="toggle(run)"
        @keydown="walk"
      >
        <Dome :state="STATES[run.level] ?? 'fine'" />
        <span :title="full(ms(run.time))">{{
          now - ms(run.time) < 64_800_000 ? clock(ms(run.time), true) : moment(ms(run.time), now)
        }}</span>
        <span class="pr-3 text-right">
          <span v-if="run.quantities[stream.main] === undefined" class="font-mid text-breached-ink">none</span>
          <template v-else
            ><span
              :class="
                run.level === 'breached'
                  ? 'font-mid text-breached-ink'
                  : run.level === 'degraded'
                    ? 'font-mid text-degraded-ink'
                    : 'font-mid'
              "
              >{{ written(run.quantities[stream.main], stream.unit).figure }}</span
            ><span class="unit">{{ unitWords(stream.unit) }}</span></template
          >
        </span>
        <span class="block max-phone:hidden">
          <PhaseBar
            v-if="stream.phases.length && run.is_ok"
            :phases="stream.phases"
            :values="run.quantities"
            :most="most"
            :limit="own?.degraded ?? null"
          />
        </span>
        <span class="truncate pl-3 text-2 text-ink-2" :title="told(run)">{{ told(run) }}</span>
        <span class="text-right text-2 text-accent-ink max-phone:hidden">{{
          opened === run.time ? 'close' : 'open'
        }}</span>
      </button>
      <RunDetail
        v-if="opened === run.time"
        :run="run"
        :stream="stream"
        :quantities="page.quantities"
        :usual-phases="usualPhases"
      />
    </li>
  </ul>
  <button v-if="page.next" class="go mt-2 text-2" @click="limit = Math.min(200, limit + 24)">
    {{ limit >= 200 ? `Older than ${inWords(200, '')} runs: move the window on the ribbon` : 'Show older runs' }}
  </button>
</template>
