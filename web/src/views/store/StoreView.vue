<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { answered, api } from '@/api/client'
import { bytes, day, full, inWords, ms } from '@/app/format'
import { usePage } from '@/app/page'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

/** What is kept, how much room it takes, and for how long there is room. */
const store = useQuery({
  queryKey: ['store'],
  queryFn: () => answered(api.GET('/api/store')),
  refetchInterval: 30_000,
})
const kinds = computed(() => (store.data.value?.kinds ?? []).filter((one) => one.bytes > 0))
const largest = computed(() => Math.max(1, ...kinds.value.map((one) => one.bytes)))
const parts = computed(() => {
  const found = store.data.value
  const whole = found?.disk_bytes
  if (!found || !whole || found.free_bytes === null || found.other_bytes === null) return []
  return [
    { name: 'the store', size: found.bytes, tone: 'bg-ink' },
    { name: 'other things', size: found.other_bytes, tone: 'bg-ink-3' },
    { name: 'free', size: found.free_bytes, tone: 'bg-rule' },
  ].map((one) => ({ ...one, share: `${(one.size / whole) * 100}%` }))
})
usePage(
  () => 'Store',
  () => (store.data.value ? `${bytes(store.data.value.bytes)} in ${store.data.value.engine}` : ''),
)
</script>

<template>
  <Trouble v-if="store.isError.value" what="The store's sizes" :error="store.error.value" @again="store.refetch()" />
  <Waiting v-if="store.isPending.value" what="Measuring the store." />
  <div v-if="store.data.value" class="max-w-[1040px]">
    <p class="mt-[14px] text-4 leading-snug" :class="{ 'text-breached-ink': store.data.value.is_tight }">
      {{ store.data.value.sentence }}
    </p>
    <p class="mt-1 text-ink-2">
      <template v-if="store.data.value.bytes_per_day !== null">
        It grows by {{ bytes(store.data.value.bytes_per_day) }} a day, from
        {{ store.data.value.growth_days }}
        {{ store.data.value.growth_days === 1 ? 'finished day' : 'finished days' }}.
      </template>
      <template v-if="store.data.value.full">Full about {{ day(ms(store.data.value.full)) }}.</template>
      <template v-if="store.data.value.oldest">
        The oldest that is kept is of {{ full(ms(store.data.value.oldest)) }}.
      </template>
    </p>
    <div v-if="parts.length" class="mt-4">
      <div
        class="flex h-3 gap-px"
        role="img"
        :aria-label="parts.map((one) => `${one.name} ${bytes(one.size)}`).join(', ')"
      >
        <span
          v-for="one in parts"
          :key="one.name"
          :class="one.tone"
          :style="{ width: one.share }"
          class="min-w-[2px]"
        />
      </div>
      <p class="mt-1 text-2 text-ink-3">
        The disk holds {{ bytes(store.data.value.disk_bytes) }}:
        {{ parts.map((one) => `${one.name} ${bytes(one.size)}`).join(', ') }}.
      </p>
    </div>
    <h2 class="heading mt-6 border-b border-rule-strong pb-1">What takes the room</h2>
    <table class="w-full border-collapse leading-[27px]">
      <thead class="text-2 text-ink-3">
        <tr>
          <th class="font-normal">what is kept</th>
          <th class="w-[34%]"></th>
          <th class="text-right font-normal">now</th>
          <th class="w-[130px] text-right font-normal">growth a day</th>
          <th class="w-[230px] pl-6 font-normal">for how long</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in kinds" :key="one.name">
          <th class="border-t border-rule pr-3 font-mid">{{ one.label }}</th>
          <td class="border-t border-rule">
            <span class="block h-[7px] bg-ink-2" :style="{ width: `${(one.bytes / largest) * 100}%` }" />
          </td>
          <td class="border-t border-rule text-right whitespace-nowrap">{{ bytes(one.bytes) }}</td>
          <td class="border-t border-rule text-right whitespace-nowrap">
            {{ one.bytes_per_day === null ? '–' : bytes(one.bytes_per_day) }}
          </td>
          <td class="border-t border-rule pl-6 text-ink-2">{{ one.kept || '–' }}</td>
        </tr>
      </tbody>
    </table>
    <h2 class="heading mt-6 border-b border-rule-strong pb-1">How quickly it writes</h2>
    <p class="mt-1.5 text-ink-2">
      <template v-if="store.data.value.commits.p50_ms !== null">
        Half of the last {{ store.data.value.commits.count.toLocaleString('en-GB') }} commits took at most
        {{ inWords(store.data.value.commits.p50_ms, 'ms') }}, 99 of 100 at most
        {{ inWords(store.data.value.commits.p99_ms, 'ms') }}. {{ store.data.value.commits.waiting || 'Nothing' }}
        {{ store.data.value.commits.waiting ? 'jobs wait' : 'waits' }} for the writer now.
      </template>
      <template v-else>Nothing was written since the hub started.</template>
    </p>
    <p class="mt-3 text-2 text-ink-3">
      How long what is kept is set where the hub is started (KUPPEL_KEEP_DAYS and its neighbours); kuppel store backup
      copies it while the hub runs. It lies in {{ store.data.value.place }}.
    </p>
  </div>
</template>
