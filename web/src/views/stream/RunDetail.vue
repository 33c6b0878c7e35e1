<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, answered, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { clock, day, inWords, ms } from '@/app/format'
import PhaseBar from '@/parts/PhaseBar.vue'

/** One run in full: its phases above a usual run's, its tries, and what it saw. */
const props = defineProps<{
  run: Shapes['RunShape']
  stream: Shapes['StreamShape']
  quantities: readonly Shapes['QuantityShape'][]
}>()
const { asked } = useClock()
const figures = useQuery({
  queryKey: ['figures', props.stream.stream, asked],
  queryFn: () =>
    answered(
      api.GET('/api/streams/{stream}/figures', {
        params: { path: { stream: props.stream.stream }, query: asked.value },
      }),
    ),
})
const timings = computed<Record<string, number>>(() => props.run.detail.timings_ms ?? props.run.quantities)
const usual = computed(() => figures.data.value?.usual_phases ?? {})
function sum(values: Record<string, number>): number {
  return props.stream.phases.reduce((all, name) => all + (values[name] ?? 0), 0)
}
const most = computed(() => Math.max(sum(timings.value), sum(usual.value), 1e-6) * 1.15)
const trips = computed(() => props.run.detail.round_trips_us ?? [])
const headers = computed(() => (props.run.detail.headers ?? []).map(([name = '', value = '']) => ({ name, value })))
const tries = computed(() => (props.run.attempts.length > 1 || !props.run.is_ok ? props.run.attempts : []))

const facts = computed(() => {
  const { facts, detail, quantities } = props.run
  const told: [string, string][] = []
  if (facts.address) told.push(['address', detail.local ? `${facts.address}, from ${detail.local}` : facts.address])
  if (facts.resolver) told.push(['resolver', detail.local ? `${facts.resolver}, from ${detail.local}` : facts.resolver])
  if (detail.status)
    told.push(['answer', `status ${detail.status}, ${inWords(Number(detail.size), 'By')}, ${facts.http_version ?? ''}`])
  if (facts.certificate_expires && quantities.certificate_days !== undefined)
    told.push(['certificate', `${facts.certificate_issuer ?? ''}, until ${day(ms(facts.certificate_expires))}`])
  if (facts.certificate_names) told.push(['for', facts.certificate_names])
  if (detail.verification)
    told.push([
      'chain',
      `${detail.chain?.length ?? 0} sent, ${detail.verification.replace('accepted', 'accepted as it is')}`,
    ])
  if (facts.tls_version) told.push(['agreed on', `${facts.tls_version}, ${facts.cipher ?? ''}`])
  if (detail.code)
    told.push([
      'answer',
      `${[detail.code, ...(detail.answers ?? [])].join(', ')}, by ${detail.transport?.toUpperCase() ?? ''}`,
    ])
  if (facts.signatures) told.push(['signatures', facts.signatures])
  if (detail.stamps) told.push(['time stamps', `${detail.stamps}`])
  return told
})
/* Phases are drawn; what else was measured is listed. */
const measured = computed(() =>
  props.stream.phases.length
    ? []
    : props.quantities.flatMap(({ name, label, unit }) => {
        const value = props.run.quantities[name]
        return value === undefined || name === props.stream.main ? [] : [{ name, label, value: inWords(value, unit) }]
      }),
)
</script>

<template>
  <div class="pt-1 pb-2 pl-[22px]">
    <template v-if="stream.phases.length">
      <div class="grid grid-cols-[72px_minmax(0,1fr)_72px] items-center gap-y-1">
        <span class="text-2 text-ink-2">this run</span>
        <PhaseBar :phases="stream.phases" :values="timings" :most="most" is-large />
        <b class="pl-2">{{ inWords(sum(timings), 'ms') }}</b>
        <span class="text-2 text-ink-2">usual run</span>
        <PhaseBar class="opacity-75" :phases="stream.phases" :values="usual" :most="most" />
        <span class="pl-2 text-2 text-ink-2">{{ inWords(sum(usual), 'ms') }}</span>
      </div>
      <p class="mt-0.5 text-1 text-ink-3">usual: the median of each phase in this window</p>
    </template>
    <div v-if="trips.length" class="mt-1 flex flex-wrap gap-x-3 text-2">
      <span class="text-ink-3">each packet</span>
      <span
        v-for="(trip, index) in trips"
        :key="index"
        class="whitespace-nowrap"
        :class="trip === null ? 'text-breached-ink' : ''"
        >{{ trip === null ? 'lost' : inWords(trip / 1000, 'ms') }}</span
      >
    </div>
    <ol v-if="tries.length" class="mt-1 text-2">
      <li v-for="(one, index) in tries" :key="one.started">
        <span class="text-ink-3">try {{ index + 1 }} at {{ clock(ms(one.started), true) }}</span>
        {{ one.reason ? one.words : 'ok' }} after {{ inWords(one.duration_ms, 'ms')
        }}<template v-if="one.note">: {{ one.note }}</template>
      </li>
    </ol>
    <dl class="mt-1 grid grid-cols-2 gap-x-[22px] gap-y-px text-2 leading-[1.35] max-phone:grid-cols-1">
      <div v-for="[name, value] in facts" :key="name" class="relative pl-[84px]">
        <dt class="absolute left-0 text-ink-3">{{ name }}</dt>
        <dd class="break-words">{{ value }}</dd>
      </div>
      <div v-if="headers.length" class="relative col-span-2 pl-[84px] max-phone:col-span-1">
        <dt class="absolute left-0 text-ink-3">headers</dt>
        <dd class="break-words">
          <span v-for="{ name, value } in headers" :key="name" class="mr-3">{{ name.toLowerCase() }} {{ value }}</span>
        </dd>
      </div>
    </dl>
    <dl v-if="measured.length" class="mt-1 grid grid-cols-2 gap-x-[22px] gap-y-px text-2 max-phone:grid-cols-1">
      <div v-for="one in measured" :key="one.name" class="flex justify-between border-t border-rule leading-[20px]">
        <dt class="text-ink-3">{{ one.label }}</dt>
        <dd class="pl-2 whitespace-nowrap">{{ one.value }}</dd>
      </div>
    </dl>
    <p v-if="run.is_generated" class="mt-1 text-1 text-ink-3">This run is made-up history of the demo, not measured.</p>
  </div>
</template>
