<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, answered, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { useChosen } from '@/app/chosen'
import { useDoing } from '@/app/doing'
import { bytes, duration, full, inWords, moment, ms, signed } from '@/app/format'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import { may } from '@/app/session'
import ChosenBar from '@/parts/ChosenBar.vue'
import Choice from '@/parts/Choice.vue'
import Dome from '@/parts/Dome.vue'
import Pick from '@/parts/Pick.vue'
import Narrow from '@/parts/Narrow.vue'
import OpenedRow from '@/parts/OpenedRow.vue'
import Refused from '@/parts/Refused.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

import PutAgent from './PutAgent.vue'

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
  return (points.data.value ?? []).filter(
    (one) =>
      isShown(one, only.value) &&
      [one.name, one.kind, one.place, one.provider, one.country, one.person, ...one.tags, ...one.addresses].some(
        (told) => told.toLowerCase().includes(wanted),
      ),
  )
})
const only = useKept<string>('only', 'all')
const choices = computed(() => {
  const known = points.data.value ?? []
  const kinds = [...new Set(known.map((one) => one.kind))].sort()
  return ['all', ...kinds, 'away', 'not fine'].flatMap((key) => {
    const count = known.filter((one) => isShown(one, key)).length
    return key === 'all' || count || key === only.value ? [{ key, label: `${key} ${count}` }] : []
  })
})
function isShown(point: Point, which: string): boolean {
  if (which === 'all') return true
  if (which === 'away') return isAway(point)
  if (which === 'not fine') return point.summary.not_fine > 0
  return point.kind === which
}

/* Many at once: tags, whose they are, and from when on their agents take the hub's version. */
const chosen = useChosen(found)
const { many } = chosen
const GIVEN = [
  { key: 'tag', label: 'tag' },
  { key: 'country', label: 'country' },
  { key: 'person', label: 'person' },
] as const
const given = ref<(typeof GIVEN)[number]['key']>('tag')
const text = ref('')
const due = ref('')
const { wrong, attempt } = useDoing()
const change = (changes: Partial<Omit<Shapes['PointChanges'], 'vantage_points'>>) =>
  attempt(async () => {
    await answered(
      api.POST('/api/vantage-points/changes', {
        body: { vantage_points: many.value.map((one) => one.id), withdraw_update: false, ...changes },
      }),
    )
    await points.refetch()
  })

usePage(
  () => 'Vantage points',
  () => (points.data.value ? `${points.data.value.length} enrolled` : ''),
)
const put = useKept('put', 'no', ['no', 'yes'])
const isPutting = computed(() => put.value === 'yes' && may('administer'))

const asking = ref<number | null>(null)
async function withdraw(point: Point): Promise<void> {
  const path = { vantage_point: point.id }
  await answered(api.DELETE('/api/vantage-points/{vantage_point}/token', { params: { path } }))
  asking.value = null
  await points.refetch()
}

/** An agent calls every few seconds; half a minute without a call is worth a word. */
function isAway(point: Point): boolean {
  return now.value - ms(point.seen) > 30_000
}
function troubles(point: Point): string {
  const told: string[] = []
  if (!point.has_token) told.push('its token was withdrawn: no agent is let in from here')
  if (point.is_busy) told.push(`too busy to measure truly: it wakes ${inWords(point.scheduling_lag_ms, 'ms')} late`)
  if (point.spooled > 100) told.push(`${point.spooled.toLocaleString('en-GB')} results wait there`)
  if (point.dropped_results)
    told.push(`${point.dropped_results.toLocaleString('en-GB')} results dropped, its spool was full`)
  if (point.dropped_details) told.push(`${point.dropped_details.toLocaleString('en-GB')} details dropped`)
  if (point.refused_results) told.push(`${point.refused_results.toLocaleString('en-GB')} results refused`)
  if (point.missed_slots) told.push(`${inWords(point.missed_slots, '{run}')} could not start in time`)
  return told.join('; ')
}
</script>

<template>
  <div class="mt-[11px] mb-2 flex flex-wrap items-center gap-2.5">
    <button v-if="may('administer') && !isPutting" class="btn btn-main" @click="put = 'yes'">
      Put an agent on a machine
    </button>
    <Choice v-model="only" :options="choices" label="which" is-plain class="text-2" />
    <span class="flex-1" />
    <Narrow v-model="search" words="narrow by name, tag or address" />
  </div>
  <Trouble
    v-if="points.isError.value"
    what="The vantage points"
    :error="points.error.value"
    @again="points.refetch()"
  />
  <Waiting v-if="points.isPending.value" what="Reading the vantage points." />
  <Refused :wrong="wrong" />
  <ChosenBar v-if="many.length && !isPutting" :count="many.length" what="vantage points" @none="chosen.none">
    <Pick v-model="given" :options="GIVEN" label="" spoken="what to give them" />
    <input v-model="text" class="inp h-7 w-28" :placeholder="given" :aria-label="given" />
    <template v-if="given === 'tag'">
      <button class="btn h-7" :disabled="!text.trim()" @click="change({ add_tags: [text.trim()] })">Tag</button>
      <button class="btn h-7" :disabled="!text.trim()" @click="change({ remove_tags: [text.trim()] })">
        Take it off
      </button>
    </template>
    <button v-else class="btn h-7" @click="change({ [given]: text.trim() })">
      {{ text.trim() ? 'Set' : 'Clear' }}
    </button>
    <span class="ml-2">update from</span>
    <input v-model="due" class="inp h-7 w-48" type="datetime-local" aria-label="when the update is due" />
    <button class="btn h-7" :disabled="!due" @click="change({ update_due: new Date(due).toISOString() })">
      Announce
    </button>
    <button class="btn h-7" @click="change({ withdraw_update: true })">Take it back</button>
  </ChosenBar>
  <div
    v-if="points.data.value?.length"
    class="relative max-phone:overflow-x-auto"
    :class="{ 'pr-[364px] max-phone:pr-0': isPutting }"
  >
    <table class="w-full border-collapse">
      <thead class="text-2 text-ink-3">
        <tr>
          <th v-if="may('administer') && !isPutting" class="w-7 border-b border-rule-strong">
            <input type="checkbox" aria-label="Choose all" :checked="chosen.isAll.value" @change="chosen.toggleAll" />
          </th>
          <th class="border-b border-rule-strong py-[3px]">vantage point</th>
          <th class="border-b border-rule-strong">kind and place</th>
          <th class="border-b border-rule-strong">provider</th>
          <th v-if="!isPutting" class="border-b border-rule-strong">address</th>
          <th v-if="!isPutting" class="border-b border-rule-strong">version</th>
          <th
            class="border-b border-rule-strong pl-3 text-right"
            title="hub's clock minus its own, and the most by which that can be wrong"
          >
            clock offset
          </th>
          <th
            v-if="!isPutting"
            class="border-b border-rule-strong pl-3 text-right"
            title="how late its agent wakes, 95th percentile of a minute"
          >
            wakes late by
          </th>
          <th
            v-if="!isPutting"
            class="border-b border-rule-strong pl-3 text-right"
            title="by the schedules of its probes"
          >
            load
          </th>
          <th class="border-b border-rule-strong pl-3 text-right">last call</th>
          <th class="border-b border-rule-strong pl-3 text-right">streams not fine</th>
        </tr>
      </thead>
      <tbody v-for="point in found" :key="point.id">
        <tr class="leading-[26px]">
          <td v-if="may('administer') && !isPutting" class="border-b border-rule">
            <input
              type="checkbox"
              :aria-label="`Choose ${point.name}`"
              :checked="chosen.has(point.id)"
              @change="chosen.toggle(point.id)"
            />
          </td>
          <th class="border-b border-rule pr-3 font-mid whitespace-nowrap">
            <Dome :state="isAway(point) ? 'silent' : point.summary.is_affected ? point.summary.state : 'fine'" />
            <RouterLink :to="`/vantage-points/${point.id}`" class="hover:underline" @click.stop>{{
              point.name
            }}</RouterLink>
          </th>
          <td
            class="border-b border-rule pr-2 text-ink-2"
            :title="`${point.country || 'country not stated'}; ${point.person || 'nobody’s own machine'}`"
          >
            {{ point.kind }}, {{ point.place || 'place not stated' }}
            <span v-if="point.tags.length" class="text-2 text-ink-3">{{ point.tags.join(', ') }}</span>
          </td>
          <td class="border-b border-rule pr-2">{{ point.provider || 'not stated' }}</td>
          <td
            v-if="!isPutting"
            class="border-b border-rule pr-2"
            :title="point.seen_from ? `calls from ${point.seen_from}` : ''"
          >
            {{ point.addresses.join(', ') }}
          </td>
          <td v-if="!isPutting" class="border-b border-rule pr-2">
            {{ point.version || 'not called yet' }}
            <span v-if="point.version && !point.is_current" class="text-2 text-degraded-ink">older</span>
            <span v-if="point.update_due" class="block text-2 leading-4 text-ink-2"
              >update {{ moment(ms(point.update_due), now) }}</span
            >
          </td>
          <td class="border-b border-rule pl-3 text-right whitespace-nowrap">
            <template v-if="point.clock_offset_ms !== null">
              {{ signed(point.clock_offset_ms, 'ms') }}
              <span class="text-2 text-ink-3">± {{ inWords(point.clock_error_ms, 'ms') }}</span>
            </template>
            <span v-else class="text-ink-3">not known</span>
          </td>
          <td
            v-if="!isPutting"
            class="border-b border-rule pl-3 text-right whitespace-nowrap"
            :class="point.is_busy ? 'font-mid text-degraded-ink' : ''"
          >
            {{ inWords(point.scheduling_lag_ms, 'ms') }}
          </td>
          <td
            v-if="!isPutting"
            class="border-b border-rule pl-3 text-right whitespace-nowrap"
            :title="`${point.probes} probes, about ${bytes(point.load.octets_a_day)} a day`"
          >
            {{ point.load.runs_a_minute.toFixed(1) }} <span class="text-2 text-ink-3">runs/min</span>
          </td>
          <td
            class="border-b border-rule pl-3 text-right whitespace-nowrap"
            :title="full(ms(point.seen))"
            :class="isAway(point) ? 'text-silent-ink' : ''"
          >
            {{ duration(now - ms(point.seen)) }} ago
          </td>
          <td class="border-b border-rule pl-3 text-right whitespace-nowrap">
            {{ point.summary.not_fine }} <span class="text-ink-3">of {{ point.summary.streams }}</span>
            <button
              v-if="may('administer') && point.has_token"
              class="go ml-3 text-2"
              :aria-label="`Withdraw the token of ${point.name}`"
              :aria-expanded="asking === point.id"
              @click="asking = asking === point.id ? null : point.id"
            >
              token
            </button>
          </td>
        </tr>
        <OpenedRow v-if="asking === point.id" :columns="12">
          <p class="mb-2">
            The agent at {{ point.name }} is refused from then on, and {{ point.name }} falls silent. What it measured
            stays; an enrolment token made for {{ point.name }} lets a new agent take its place.
          </p>
          <button class="btn btn-grave" @click="withdraw(point)">Withdraw its token</button>
          <button class="btn ml-2" @click="asking = null">Leave it</button>
        </OpenedRow>
        <tr v-if="troubles(point)">
          <td class="border-b border-rule" />
          <td colspan="11" class="border-b border-rule pb-1 text-2 text-degraded-ink">{{ troubles(point) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="found.length === 0" class="py-4 text-ink-2">
      None is called that. <button class="go" @click="((search = ''), (only = 'all'))">Show all</button>
    </p>
  </div>
  <p v-if="points.data.value?.length === 0" class="max-w-[56ch] py-6 text-ink-2">
    <b class="block text-4 text-ink">Nobody measures yet.</b>
    Nothing is known before an agent stands somewhere.
    {{ may('administer') ? 'Put one on a machine with the button above.' : 'An admin can put one on a machine.' }}
  </p>
  <PutAgent v-if="isPutting" @close="put = 'no'" />
</template>
