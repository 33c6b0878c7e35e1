<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { RouterLink } from 'vue-router'

import { api, answered } from '@/api/client'
import { useClock } from '@/app/clock'
import { moment, ms } from '@/app/format'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

import type { SelectionKind } from './selection'

const props = defineProps<{ of: SelectionKind; id: number }>()
const { asked, now } = useClock()
const found = useQuery({
  queryKey: ['failed', () => props.of, () => props.id, asked],
  queryFn: () =>
    answered(api.GET('/api/overview/failed', { params: { query: { of: props.of, id: props.id, ...asked.value } } })),
})
</script>

<template>
  <section class="mt-4 text-2">
    <h2 class="heading border-b border-rule-strong pb-1">Newest failed runs, where most fail</h2>
    <Trouble v-if="found.isError.value" what="The failed runs" :error="found.error.value" @again="found.refetch()" />
    <Waiting v-if="found.isPending.value" what="Looking for failed runs." />
    <p v-if="found.data.value?.length === 0" class="py-2 text-ink-2">No run failed in this window.</p>
    <RouterLink
      v-for="one in found.data.value ?? []"
      :key="`${one.stream} ${one.time}`"
      :to="`/streams/${one.stream}?runs=failed&run=${encodeURIComponent(one.time)}`"
      class="grid grid-cols-[104px_110px_170px_minmax(0,1fr)] gap-x-2 border-b border-rule leading-[24px] hover:bg-sheet max-phone:grid-cols-[80px_minmax(0,1fr)]"
    >
      <span>{{ moment(ms(one.time), now) }}</span>
      <span class="truncate font-mid">{{ one.vantage_point }}</span>
      <span class="truncate text-ink-2 max-phone:hidden">{{ one.probe }}</span>
      <span class="truncate max-phone:col-start-2" :title="`${one.words}${one.note ? `: ${one.note}` : ''}`">{{
        one.note || one.words
      }}</span>
    </RouterLink>
  </section>
</template>
