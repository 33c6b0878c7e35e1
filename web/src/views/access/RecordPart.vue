<script setup lang="ts">
import { keepPreviousData, useInfiniteQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { answered, api, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { clock, day, full, ms } from '@/app/format'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

/** Who changed what, newest first. Nobody can change it. */
const props = defineProps<{ search: string }>()
defineEmits<{ all: [] }>()
type Entry = Shapes['EntryShape']

const { now } = useClock()
const record = useInfiniteQuery({
  queryKey: ['record', computed(() => props.search)],
  queryFn: ({ pageParam }) =>
    answered(api.GET('/api/record', { params: { query: { find: props.search, below: pageParam, limit: 50 } } })),
  initialPageParam: null as number | null,
  getNextPageParam: (page) => page.next,
  placeholderData: keepPreviousData,
  refetchInterval: 5000,
})
const days = computed(() => {
  const found = new Map<string, Entry[]>()
  for (const entry of record.data.value?.pages.flatMap((page) => page.entries) ?? []) {
    const name = day(ms(entry.time))
    found.set(name, [...(found.get(name) ?? []), entry])
  }
  return [...found.entries()].map(([name, entries]) => ({
    name: name === day(now.value) ? 'Today' : name,
    entries,
  }))
})

function value(one: unknown): string {
  if (one === null || one === undefined || one === '') return 'nothing'
  if (Array.isArray(one)) return one.length ? one.map(value).join(', ') : 'none'
  if (typeof one !== 'object') return String(one)
  return Object.entries(one)
    .map(([name, part]) => `${name} ${value(part)}`)
    .join(', ')
}
function told(entry: Entry): string[] {
  const names = Object.keys({ ...entry.before, ...entry.after })
  return names.map((name) => {
    const words = name.replaceAll('_', ' ')
    if (!entry.before) return `${words}: ${value(entry.after?.[name])}`
    if (!entry.after) return `${words} was ${value(entry.before[name])}`
    return `${words}: ${value(entry.before[name])} → ${value(entry.after[name])}`
  })
}
function who(entry: Entry): string {
  return entry.actor || (entry.actor_kind === 'token' ? 'somebody' : entry.actor_kind)
}
</script>

<template>
  <Trouble v-if="record.isError.value" what="The record" :error="record.error.value" @again="record.refetch()" />
  <Waiting v-if="record.isPending.value" what="Reading the record." />
  <div v-if="record.data.value" class="relative max-phone:overflow-x-auto">
    <table class="w-full border-collapse">
      <tbody v-for="group in days" :key="group.name">
        <tr>
          <th colspan="4" class="heading h-9 border-b border-rule-strong pb-1 align-bottom">{{ group.name }}</th>
        </tr>
        <tr v-for="entry in group.entries" :key="entry.id" class="align-top leading-[25px]">
          <td class="w-[72px] border-b border-rule" :title="full(ms(entry.time))">{{ clock(ms(entry.time), true) }}</td>
          <th class="w-[170px] border-b border-rule pr-3 font-mid">
            {{ who(entry) }}
            <span v-if="entry.actor && entry.actor_kind !== 'person'" class="text-2 text-ink-3">{{
              entry.actor_kind
            }}</span>
          </th>
          <td class="w-full max-w-0 border-b border-rule pr-3">
            <span :class="entry.action === 'refused' ? 'font-mid text-breached-ink' : ''">{{ entry.action }}</span>
            {{ entry.subject }}
            <span
              v-for="one in told(entry)"
              :key="one"
              class="block truncate text-2 leading-[18px] text-ink-2"
              :title="one"
              >{{ one }}</span
            >
          </td>
          <td class="w-[130px] border-b border-rule text-right text-2 text-ink-3">{{ entry.address }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="days.length === 0" class="py-4 text-ink-2">
      Nothing in the record holds these words. <button class="go" @click="$emit('all')">Show all</button>
    </p>
    <button v-if="record.hasNextPage.value" class="go mt-2 text-2" @click="record.fetchNextPage()">
      Show older ones
    </button>
  </div>
</template>
