<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import { useClock, type Stretch } from '@/app/clock'
import { day, duration, moment, ms } from '@/app/format'
import Track from '@/parts/Track.vue'

/** What is not a number: one thin track for each fact, with a tick where it changed. */
const props = defineProps<{ facts: Shapes['FactShape'][]; stretch: Stretch }>()
const { now } = useClock()

const NAMES: Record<string, string> = {
  address: 'Address',
  answers: 'Answers',
  certificate: 'Certificate',
  http_version: 'Version',
  tls_version: 'TLS version',
  path: 'Path',
  codec: 'Codec',
  gateway: 'Gateway',
  services: 'Services',
  wifi_network: 'Wi-Fi',
}

interface FactTrack {
  name: string
  label: string
  words: string
  isSame: boolean
  ticks: { left: number; hover: string }[]
  value: string
  note: string
}

const tracks = computed<FactTrack[]>(() => {
  const found = props.facts
  const { from, to } = props.stretch
  return Object.entries(NAMES).flatMap(([name, label]) => {
    const values = found.filter((fact) => fact.name === name)
    const last = values.at(-1)
    if (!last) return []
    const changes = values.slice(1).filter((fact) => ms(fact.from) >= from)
    const expires = found.findLast((fact) => fact.name === 'certificate_expires')
    const isCertificate = name === 'certificate' && expires !== undefined
    const what = isCertificate ? `valid until ${day(ms(expires.value))}` : last.value
    const lastChange = changes.at(-1)
    return [
      {
        name,
        label,
        words: lastChange ? `${what} since ${moment(ms(lastChange.from), now.value)}` : `the same one, ${what}`,
        isSame: !lastChange,
        ticks: changes.map((fact) => ({ left: ((ms(fact.from) - from) / (to - from)) * 100, hover: fact.value })),
        value: isCertificate
          ? duration(ms(expires.value) - now.value)
          : changes.length
            ? String(changes.length)
            : 'none',
        note: isCertificate ? 'left' : changes.length === 1 ? 'change' : 'changes',
      },
    ]
  })
})
</script>

<template>
  <Track v-for="track in tracks" :key="track.name" :name="track.label" :stretch="stretch">
    <i class="absolute inset-x-0 top-1/2 border-t border-rule" />
    <i
      v-for="tick in track.ticks"
      :key="tick.left"
      class="absolute inset-y-0 border-l-2 border-ink"
      :style="{ left: `${tick.left}%` }"
      :title="tick.hover"
    />
    <span
      class="absolute top-px left-0 max-w-full truncate bg-ground pr-1 text-1 leading-4"
      :class="track.isSame ? 'text-ink-3' : 'left-auto right-0 pl-1 text-ink'"
      >{{ track.words }}</span
    >
    <template #value>
      <b class="font-mid">{{ track.value }}</b> <span class="text-1 text-ink-3">{{ track.note }}</span>
    </template>
  </Track>
</template>
