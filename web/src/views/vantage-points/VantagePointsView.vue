<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, answered, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { duration, full, inWords, ms, signed } from '@/app/format'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import Dome from '@/parts/Dome.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

type Point = Shapes['VantagePointShape']

const { now } = useClock()
const search = useKept<string>('find', '')
const points = useQuery({
  queryKey: ['vantage points'],
  queryFn: () => answered(api.GET('/api/vantage-points')),
  refetchInterval: 3000,
})
const found = computed(() => {
  const wanted = search.value.trim().toLowerCase()
  return (points.data.value ?? []).filter((one) =>
    [one.name, one.kind, one.place, one.provider, ...one.addresses].some((text) => text.toLowerCase().includes(wanted)),
  )
})
usePage(
  () => 'Vantage points',
  () => (points.data.value ? `${points.data.value.length} enrolled` : ''),
)
const command = `kuppel agent --hub ${location.origin} --token … --name …`

/** An agent calls every few seconds; half a minute without a call is worth a word. */
function isAway(point: Point): boolean {
  return now.value - ms(point.seen) > 30_000
}
function troubles(point: Point): string {
  const told: string[] = []
  if (point.is_busy) told.push(`too busy to measure truly: it wakes ${inWords(point.scheduling_lag_ms, 'ms')} late`)
  if (point.spooled > 100) told.push(`${point.spooled.toLocaleString('en-GB')} results wait there`)
  if (point.dropped_results)
    told.push(`${point.dropped_results.toLocaleString('en-GB')} results dropped, its spool was full`)
  if (point.dropped_details) told.push(`${point.dropped_details.toLocaleString('en-GB')} details dropped`)
  if (point.refused_results) told.push(`${point.refused_results.toLocaleString('en-GB')} results refused`)
  if (point.missed_slots) told.push(`${point.missed_slots.toLocaleString('en-GB')} runs could not start in time`)
  return told.join('; ')
}
</script>

<template>
  <div class="mt-[11px] mb-2 flex flex-wrap items-center gap-2.5">
    <p class="text-ink-2">Who measures, where from, and whether it can.</p>
    <span class="flex-1" />
    <input
      v-model="search"
      class="h-7 w-44 border-b border-rule-strong bg-transparent px-1 text-2 placeholder:text-ink-3"
      placeholder="narrow by name or address"
      aria-label="Narrow by name or address"
    />
  </div>
  <Trouble
    v-if="points.isError.value"
    what="The vantage points"
    :error="points.error.value"
    @again="points.refetch()"
  />
  <Waiting v-if="points.isPending.value" what="Reading the vantage points." />
  <div v-if="points.data.value?.length" class="max-phone:overflow-x-auto">
    <table class="w-full border-collapse">
      <thead class="text-2 text-ink-3">
        <tr>
          <th class="border-b border-rule-strong py-[3px]">vantage point</th>
          <th class="border-b border-rule-strong">kind and place</th>
          <th class="border-b border-rule-strong">provider</th>
          <th class="border-b border-rule-strong">address</th>
          <th class="border-b border-rule-strong">version</th>
          <th
            class="border-b border-rule-strong text-right"
            title="hub's clock minus its own, and the most by which that can be wrong"
          >
            clock offset
          </th>
          <th
            class="border-b border-rule-strong text-right"
            title="how late its agent wakes, 95th percentile of a minute"
          >
            wakes late by
          </th>
          <th class="border-b border-rule-strong text-right">last call</th>
          <th class="border-b border-rule-strong text-right">streams not fine</th>
        </tr>
      </thead>
      <tbody v-for="point in found" :key="point.id">
        <tr class="leading-[26px]">
          <th class="border-b border-rule font-mid whitespace-nowrap">
            <Dome :state="isAway(point) ? 'silent' : point.summary.is_affected ? point.summary.state : 'fine'" />
            {{ point.name }}
          </th>
          <td class="border-b border-rule pr-2 text-ink-2">
            {{ point.kind }}, {{ point.place || 'place not stated' }}
          </td>
          <td class="border-b border-rule pr-2">{{ point.provider || 'not stated' }}</td>
          <td class="border-b border-rule pr-2">{{ point.addresses.join(', ') }}</td>
          <td class="border-b border-rule pr-2">{{ point.version || 'not called yet' }}</td>
          <td class="border-b border-rule text-right whitespace-nowrap">
            <template v-if="point.clock_offset_ms !== null">
              {{ signed(point.clock_offset_ms, 'ms') }}
              <span class="text-2 text-ink-3">± {{ inWords(point.clock_error_ms, 'ms') }}</span>
            </template>
            <span v-else class="text-ink-3">not known</span>
          </td>
          <td
            class="border-b border-rule text-right whitespace-nowrap"
            :class="point.is_busy ? 'font-mid text-degraded-ink' : ''"
          >
            {{ inWords(point.scheduling_lag_ms, 'ms') }}
          </td>
          <td
            class="border-b border-rule text-right whitespace-nowrap"
            :title="full(ms(point.seen))"
            :class="isAway(point) ? 'text-silent-ink' : ''"
          >
            {{ duration(now - ms(point.seen)) }} ago
          </td>
          <td class="border-b border-rule text-right">
            {{ point.summary.not_fine }} <span class="text-ink-3">of {{ point.summary.streams }}</span>
          </td>
        </tr>
        <tr v-if="troubles(point)">
          <td class="border-b border-rule" />
          <td colspan="8" class="border-b border-rule pb-1 text-2 text-degraded-ink">{{ troubles(point) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="found.length === 0" class="py-4 text-ink-2">
      None is called that. <button class="go" @click="search = ''">Show all</button>
    </p>
  </div>
  <section v-if="points.data.value" class="mt-6 max-w-[72ch]">
    <h2 class="heading border-b border-rule-strong pb-1">Put an agent on a machine</h2>
    <p class="py-2 text-ink-2">
      <b v-if="points.data.value.length === 0" class="block text-4 text-ink">Nobody measures yet.</b>
      Run this there, with the token that the hub keeps in its data folder as <i>enrolment-token</i>, and a name of your
      choice. It is listed here within seconds. Until people sign in, this hub answers its own machine only.
    </p>
    <code class="block rounded-sm bg-sunk px-[9px] py-[7px] font-mono text-[12px] leading-normal">{{ command }}</code>
  </section>
</template>
