<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import { bytes, clock, day, inWords, ms } from '@/app/format'

import HopsTable from './HopsTable.vue'
import MachineFacts from './MachineFacts.vue'
import RequestsTable from './RequestsTable.vue'

/** What one run saw and measured beyond its phases: facts, packets, hops, steps, requests, and every other quantity. */
const props = defineProps<{
  run: Shapes['RunShape']
  quantities: readonly Shapes['QuantityShape'][]
  phases: readonly string[]
  main: string
}>()

const detail = computed(() => props.run.detail)
const trips = computed(() => detail.value.round_trips_us ?? [])
const headers = computed(() => (detail.value.headers ?? []).map(([name = '', value = '']) => ({ name, value })))
const tries = computed(() => (props.run.attempts.length > 1 || !props.run.is_ok ? props.run.attempts : []))
const ways = computed(() => Object.entries(detail.value.by_way ?? {}))
const WAYS: Record<string, string> = { forth: 'there', back: 'back', up: 'up', down: 'down' }
const WAY_WORDS: Record<string, (value: number) => string> = {
  rating: (value) => `R ${value}`,
  score: (value) => `${value} of 5`,
  lost: (value) => (value <= 1 ? `${inWords(value, '1')} lost` : `${value} lost`),
  discarded: (value) => `${inWords(value, '1')} too late`,
  mouth_to_ear_ms: (value) => `${inWords(value, 'ms')} mouth to ear`,
  burst_density: (value) => (value ? `${inWords(value, '1')} missing in bursts` : ''),
  burst_packets: (value) => (value ? `bursts of ${inWords(value, '{packet}')}` : ''),
  octets: (value) => bytes(value),
  elapsed_ms: (value) => `in ${inWords(value, 'ms')}`,
  packets: (value) => (value ? inWords(value, '{packet}') : ''),
}
function wayWords(way: Record<string, number>): string {
  const told = Object.entries(way).map(([name, value]) => WAY_WORDS[name]?.(value) ?? '')
  return told.filter(Boolean).join(', ')
}

const facts = computed(() => {
  const { facts, detail, quantities } = props.run
  const told: [string, string][] = []
  if (facts.address) told.push(['address', detail.local ? `${facts.address}, from ${detail.local}` : facts.address])
  if (facts.resolver) told.push(['resolver', detail.local ? `${facts.resolver}, from ${detail.local}` : facts.resolver])
  if (detail.status && detail.size !== null && detail.size !== undefined)
    told.push(['answer', `status ${detail.status}, ${inWords(Number(detail.size), 'By')}, ${facts.http_version ?? ''}`])
  else if (detail.status) told.push(['answer', `status ${detail.status}`])
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
  if (detail.call) told.push(['call', `answered ${detail.call}`])
  if (facts.codec) told.push(['codec', facts.codec])
  for (const [name, way] of ways.value) told.push([WAYS[name] ?? name, wayWords(way)])
  if (detail.flows)
    told.push(['looked along', `${detail.flows} flows, ${inWords(detail.ways?.length ?? 0, '{path}')} found`])
  if (detail.limited_by) told.push(['limited by', `${detail.limited_by}, which refuses larger packets`])
  for (const name of ['gateway', 'services', 'wifi_network', 'wifi_access_point', 'wifi_channel']) {
    if (facts[name]) told.push([name.replaceAll('_', ' ').replace('wifi', 'Wi-Fi'), facts[name]])
  }
  if (detail.stamps) told.push(['time stamps', `${detail.stamps}`])
  return told
})
/* Phases are drawn; what else was measured is listed. */
const measured = computed(() =>
  props.quantities.flatMap(({ name, label, unit }) => {
    const value = props.run.quantities[name]
    const isDrawn = props.phases.includes(name) || name === props.main
    return value === undefined || isDrawn ? [] : [{ name, label, value: inWords(value, unit) }]
  }),
)
</script>

<template>
  <div v-if="trips.length" class="mt-1 flex flex-wrap gap-x-3 text-2">
    <span class="text-ink-3">each packet</span>
    <span
      v-for="(trip, index) in trips.slice(0, 60)"
      :key="index"
      class="whitespace-nowrap"
      :class="trip === null ? 'text-breached-ink' : ''"
      >{{ trip === null ? 'lost' : inWords(trip / 1000, 'ms') }}</span
    >
    <span v-if="trips.length > 60" class="text-ink-3">and {{ trips.length - 60 }} more</span>
  </div>
  <ol v-if="tries.length" class="mt-1 text-2">
    <li v-for="(one, index) in tries" :key="one.started">
      <span class="text-ink-3">try {{ index + 1 }} at {{ clock(ms(one.started), true) }}</span>
      {{ one.reason ? one.words : 'ok' }} after {{ inWords(one.duration_ms, 'ms')
      }}<template v-if="one.note">: {{ one.note }}</template>
    </li>
  </ol>
  <HopsTable v-if="detail.hops?.length" :hops="detail.hops" />
  <ol v-if="detail.steps?.length" class="mt-1 text-2">
    <li v-for="step in detail.steps" :key="step.number" class="flex gap-3 border-t border-rule leading-[22px]">
      <span class="w-5 text-right text-ink-3">{{ step.number }}</span>
      <b class="font-mid">{{ step.name }}</b>
      <span class="flex-1" :class="step.failed ? 'text-breached-ink' : 'text-ink-2'">{{
        step.failed ?? `status ${step.status}, ${bytes(step.size)}`
      }}</span>
      <span>{{ inWords(step.timings_ms?.total, 'ms') }}</span>
    </li>
  </ol>
  <RequestsTable v-if="detail.requests?.length || detail.screenshot" :run="run" />
  <dl class="mt-1 grid grid-cols-2 gap-x-[22px] gap-y-px text-2 leading-[1.35] max-phone:grid-cols-1">
    <div v-for="[name, value] in facts" :key="name + value" class="relative pl-[84px]">
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
  <MachineFacts v-if="detail.disks?.length" :detail="detail" />
</template>
