<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { api, answered, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { change, full, inWords, ms, unitWords, written } from '@/app/format'
import { useKept } from '@/app/query'
import ChangesList from '@/parts/ChangesList.vue'
import Figure from '@/parts/Figure.vue'
import PhaseBar from '@/parts/PhaseBar.vue'
import Trouble from '@/parts/Trouble.vue'
import { phaseColour, phaseLabel } from '@/parts/phases'

import { CLASSES, type ClassKey, type SelectionKind } from './selection'

const props = defineProps<{ overview: Shapes['OverviewShape']; of: SelectionKind; id: number }>()
const { asked } = useClock()
const only = useKept<ClassKey | ''>('class', '', ['', ...CLASSES.map((one) => one.key)])
const changes = useQuery({
  queryKey: ['changes', () => props.of, () => props.id, asked],
  queryFn: () =>
    answered(api.GET('/api/overview/changes', { params: { query: { of: props.of, id: props.id, ...asked.value } } })),
})
const runs = computed(() => {
  const sums = CLASSES.map((one) => ({
    ...one,
    count: props.overview.targets.reduce((sum, target) => sum + target.counts[one.key], 0),
  }))
  const total = sums.reduce((sum, one) => sum + one.count, 0)
  return { total, classes: sums.map((one) => ({ ...one, share: total ? one.count / total : 0 })) }
})
const GOOD = new Set<string | null>(['clear', 'within'])
const good = computed(() => props.overview.targets.filter((one) => GOOD.has(one.answer)).length)
const label = computed(() => props.overview.kinds.find((one) => one.kind === props.overview.kind)?.label ?? '')
const host = computed(() => props.overview.members.find((one) => one.kind === 'host'))
function told(answer: string | null): string {
  return CLASSES.find((one) => one.key === answer)?.told ?? 'no run'
}
</script>

<template>
  <aside class="text-2 max-[1100px]:mt-4">
    <div class="flex items-baseline border-b border-rule-strong pb-1">
      <h2 class="heading flex-1">In figures</h2>
      <span class="text-ink-3">{{ unitWords(overview.unit) }}</span>
    </div>
    <table class="w-full border-collapse text-3">
      <thead class="text-2 text-ink-3">
        <tr>
          <th class="py-[3px]" />
          <th class="text-right">median</th>
          <th class="text-right">p95</th>
          <th class="text-right">answered</th>
          <th class="text-right">to before</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="row in overview.rows"
          :key="row.name"
          class="leading-[23px]"
          :title="`${full(ms(row.window.from))} to ${full(ms(row.window.to))}`"
        >
          <td class="border-t border-rule">{{ row.name === 'window' ? 'this window' : row.name }}</td>
          <td class="border-t border-rule text-right"><Figure :of="row.p50" without-unit /></td>
          <td class="border-t border-rule text-right"><Figure :of="row.p95" without-unit /></td>
          <td class="border-t border-rule text-right"><Figure :of="row.answered" /></td>
          <td class="border-t border-rule text-right text-ink-3">
            {{ row.change === null ? '–' : change(row.change) }}
          </td>
        </tr>
      </tbody>
    </table>

    <template v-if="runs.total">
      <h2 class="heading mt-4 border-b border-rule-strong pb-1">
        {{ runs.total.toLocaleString('en-GB') }} runs by their limits
      </h2>
      <div class="mt-2 flex h-3.5" aria-hidden="true">
        <i
          v-for="one in runs.classes"
          :key="one.key"
          :style="{ width: `${one.share * 100}%`, background: one.fill }"
          :class="{ 'min-w-[2px]': one.count }"
        />
      </div>
      <button
        v-for="one in runs.classes"
        :key="one.key"
        class="flex w-full items-baseline gap-2 border-b border-rule text-left leading-[23px] hover:bg-sheet"
        :class="{ 'font-bold': only === one.key }"
        :aria-pressed="only === one.key"
        :title="`Show the streams with runs ${one.told}`"
        @click="only = only === one.key ? '' : one.key"
      >
        <i class="inline-block size-[9px] flex-none self-center" :style="{ background: one.fill }" />
        <span class="flex-1">{{ one.told }}</span>
        <span class="text-ink-3">{{ one.count.toLocaleString('en-GB') }}</span>
        <span class="w-[52px] text-right">{{ written(one.share, '1').figure }}<span class="unit">%</span></span>
      </button>
      <p v-if="overview.unlimited" class="mt-1 text-1 text-ink-3">
        {{ overview.unlimited }} streams have no limit to be held against.
      </p>

      <template v-if="of !== 'target'">
        <h2 class="heading mt-4 border-b border-rule-strong pb-1">
          {{ good }} of {{ overview.targets.length }} targets answered within their limit, by {{ label }}
        </h2>
        <RouterLink
          v-for="one in overview.targets"
          :key="one.id"
          :to="`/targets/${one.id}`"
          class="flex items-baseline justify-between border-b border-rule leading-[23px] hover:bg-sheet"
          title="The best class that 95 % of its runs reached"
        >
          <span>{{ one.name }}</span>
          <span :class="GOOD.has(one.answer) ? 'text-ink-3' : 'font-mid text-breached-ink'">{{
            told(one.answer)
          }}</span>
        </RouterLink>
      </template>
    </template>

    <h2 class="heading mt-4 border-b border-rule-strong pb-1">Percentiles, with what chance leaves open</h2>
    <p
      v-for="one in overview.percentiles"
      :key="one.name"
      class="flex justify-between border-b border-rule leading-[23px]"
      :title="one.figure.method"
    >
      <span>{{ one.name }}</span>
      <span
        ><b class="font-mid">{{ inWords(one.figure.value, one.figure.unit) }}</b>
        <span v-if="one.figure.low !== null && one.figure.high !== null" class="ml-2 text-ink-3"
          >{{ written(one.figure.low, overview.unit).figure }} to
          {{ written(one.figure.high, overview.unit).figure }}</span
        ></span
      >
    </p>

    <template v-if="Object.keys(overview.phases).length">
      <h2 class="heading mt-4 border-b border-rule-strong pb-1">Phases, mean of the window</h2>
      <PhaseBar
        :phases="Object.keys(overview.phases)"
        :values="overview.phases"
        :most="Object.values(overview.phases).reduce((sum, one) => sum + one, 0)"
        class="my-2"
      />
      <p
        v-for="(value, phase) in overview.phases"
        :key="phase"
        class="flex justify-between border-b border-rule leading-[21px]"
      >
        <span
          ><i class="mr-1.5 inline-block size-[8px]" :style="{ background: phaseColour(String(phase)) }" />{{
            phaseLabel(String(phase))
          }}</span
        ><span>{{ inWords(value, 'ms') }}</span>
      </p>
    </template>

    <template v-if="host">
      <h2 class="heading mt-4 border-b border-rule-strong pb-1">Its machine</h2>
      <p class="border-b border-rule leading-[23px]">
        <RouterLink :to="`/streams/${host.stream}`" class="go">{{ host.probe }}</RouterLink>, wakes
        {{ inWords(host.p50.value, 'ms') }} late; processor, memory and Wi-Fi are in its runs.
      </p>
    </template>

    <Trouble v-if="changes.isError.value" what="The changes" :error="changes.error.value" @again="changes.refetch()" />
    <ChangesList v-if="changes.data.value" :changes="changes.data.value" />

    <template v-if="overview.bare.length">
      <h2 class="heading mt-4 border-b border-rule-strong pb-1">Not covered</h2>
      <p class="py-1.5 text-ink-2">
        {{ of === 'vantage_point' ? 'Not measured from here' : 'Nothing of it is measured from' }}:
        {{ overview.bare.slice(0, 8).join(', ')
        }}{{ overview.bare.length > 8 ? ` and ${overview.bare.length - 8} more` : '' }}.
        <RouterLink to="/coverage" class="go">Coverage</RouterLink>
      </p>
    </template>
  </aside>
</template>
