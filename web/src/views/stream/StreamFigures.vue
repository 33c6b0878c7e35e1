<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import type { Shapes } from '@/api/client'
import { change, full, inWords, marks, ms, signed, unitWords, written } from '@/app/format'
import ChangesList from '@/parts/ChangesList.vue'
import Dome from '@/parts/Dome.vue'
import Figure from '@/parts/Figure.vue'
import { roundScale } from '@/parts/plot'

const props = defineProps<{
  stream: Shapes['StreamShape']
  figures: Shapes['FiguresShape']
  changes: Shapes['ChangeShape'][]
}>()
function isBeyond(value: number): boolean {
  const degraded = props.stream.limits.find((one) => one.quantity === props.stream.main)?.degraded
  return degraded != null && (props.stream.worse === 'lower' ? value < degraded : value > degraded)
}

/* One axis for the answers, the percentiles and their intervals. A few far outliers must not press all others together:
   the axis ends at the 99th percentile's interval, and what lies beyond is counted at its end. */
const scale = computed(() => {
  const found = props.figures
  if (found.values.length === 0) return null
  const p99 = found.percentiles.find((one) => one.name === 'p99')?.figure
  const top = Math.min(found.values.at(-1) ?? 0, (p99?.high ?? p99?.value ?? Infinity) * 1.1)
  const scale = roundScale([found.values[0] ?? 0, top], 6)
  return { ...scale, beyond: found.values.filter((value) => value > scale.high).length }
})
function left(value: number): number {
  if (!scale.value) return 0
  return Math.min(100, Math.max(0, ((value - scale.value.low) / (scale.value.high - scale.value.low)) * 100))
}
/* A mark at the very edge would stand out beyond the column. */
const axis = computed(() => {
  const ticks = scale.value?.ticks ?? []
  const words = marks(ticks, props.stream.unit)
  const all = ticks.map((tick, index) => ({ left: left(tick), words: words[index] }))
  return all.filter((one) => one.left > 3 && one.left < 97)
})
/* Hundreds of ticks are two paths: an element for each would cost more than all the rest of the page. */
const ticks = computed(() => {
  const shown = props.figures.values.filter((value) => !scale.value || value <= scale.value.high)
  const path = (values: number[]) => values.map((value) => `M${(left(value) * 10).toFixed(1)} 0V26`).join('')
  return { inside: path(shown.filter((one) => !isBeyond(one))), beyond: path(shown.filter(isBeyond)) }
})
</script>

<template>
  <aside class="max-[1100px]:mt-4">
    <div class="flex items-baseline border-b border-rule-strong pb-1">
      <h2 class="heading flex-1">In figures</h2>
      <span class="text-2 text-ink-3">{{ unitWords(stream.unit) }}</span>
    </div>
    <table class="w-full border-collapse">
      <thead class="text-2 text-ink-3">
        <tr>
          <th class="border-b border-rule-strong py-[3px]" />
          <th class="border-b border-rule-strong text-right">median</th>
          <th class="border-b border-rule-strong text-right">{{ stream.worse === 'lower' ? 'p5' : 'p95' }}</th>
          <th class="border-b border-rule-strong text-right">answered</th>
          <th class="border-b border-rule-strong text-right">against before</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in figures.rows" :key="row.name" class="leading-[23px]">
          <td
            class="max-w-[96px] truncate border-b border-rule"
            :class="row.name === 'window' ? 'font-mid' : ''"
            :title="`${full(ms(row.window.from))} to ${full(ms(row.window.to))}: ${row.expected.toLocaleString('en-GB')} runs were due, ${row.missing.toLocaleString('en-GB')} brought no result`"
          >
            {{ row.name === 'window' ? 'this window' : row.name }}
          </td>
          <td class="border-b border-rule text-right"><Figure :of="row.p50" without-unit /></td>
          <td class="border-b border-rule text-right"><Figure :of="row.p95" without-unit /></td>
          <td class="border-b border-rule text-right"><Figure :of="row.answered" /></td>
          <td class="border-b border-rule text-right text-ink-3">
            {{ row.change === null ? '–' : change(row.change) }}
          </td>
        </tr>
      </tbody>
    </table>

    <div class="mt-3 flex items-baseline border-b border-rule-strong pb-1">
      <h2 class="heading flex-1">Every answer, {{ figures.count.toLocaleString('en-GB') }}</h2>
      <span v-if="scale?.beyond" class="text-2 text-ink-3"
        >{{ scale.beyond }} beyond {{ inWords(scale.high, stream.unit) }}</span
      >
    </div>
    <p v-if="figures.count === 0" class="py-2 text-ink-2">No answer in this window.</p>
    <div v-else class="pt-[7px]">
      <div class="relative h-[30px]" role="img" :aria-label="`${figures.count} answers; the percentiles are below`">
        <svg
          class="absolute inset-x-0 inset-y-0.5 h-[26px] w-full"
          viewBox="0 0 1000 26"
          preserveAspectRatio="none"
          aria-hidden="true"
        >
          <path
            :d="ticks.inside"
            stroke="var(--line)"
            stroke-width="1.3"
            opacity=".3"
            vector-effect="non-scaling-stroke"
          />
          <path
            :d="ticks.beyond"
            stroke="var(--breached)"
            stroke-width="1.3"
            opacity=".55"
            vector-effect="non-scaling-stroke"
          />
        </svg>
        <i
          v-if="figures.percentiles[0]?.figure.value != null"
          class="absolute -inset-y-0.5 border-l-2 border-ink"
          :style="{ left: `${left(figures.percentiles[0].figure.value)}%` }"
          title="median"
        />
      </div>
      <div class="relative h-4">
        <span
          v-for="mark in axis"
          :key="mark.left"
          class="absolute -translate-x-1/2 text-1 leading-[14px] text-ink-3"
          :style="{ left: `${mark.left}%` }"
          >{{ mark.words }}</span
        >
      </div>
    </div>
    <div
      v-if="figures.shares_under.length"
      class="flex gap-6 border-y border-rule py-[3px] text-2 justify-between"
      title="Share of answers within each limit"
    >
      <span class="self-end leading-[1.25] text-ink-2">within</span>
      <div v-for="share in figures.shares_under" :key="share.name" class="leading-[1.25]">
        <span class="block text-ink-2">{{ share.name }} {{ written(share.level, stream.unit).figure }}</span>
        <b class="text-3">{{ written(share.share, '1').figure }}<span class="unit">%</span></b>
      </div>
    </div>
    <table v-if="figures.count" class="w-full border-collapse">
      <tbody>
        <tr v-for="one in figures.percentiles" :key="one.name" class="leading-[22px]">
          <td class="w-[54px] border-b border-rule">{{ one.name }}</td>
          <td class="border-b border-rule">
            <div class="relative h-3.5">
              <i
                v-if="one.figure.low !== null && one.figure.high !== null"
                class="absolute top-1.5 h-0.5 bg-ink-3"
                :style="{
                  left: `${left(one.figure.low)}%`,
                  width: `${Math.max(0.5, left(one.figure.high) - left(one.figure.low))}%`,
                }"
              />
              <i
                v-if="one.figure.value !== null && !one.figure.is_few"
                class="absolute top-[3px] -ml-1 size-2 rounded-full bg-ink"
                :style="{ left: `${left(one.figure.value)}%` }"
              />
            </div>
          </td>
          <td class="w-[72px] border-b border-rule text-right">
            <b v-if="!one.figure.is_few"><Figure :of="one.figure" /></b
            ><span v-else class="text-2 text-ink-3">too few</span>
          </td>
          <td
            class="w-[92px] border-b border-rule pl-2 text-right text-2 whitespace-nowrap text-ink-2"
            title="95 % interval"
          >
            <template v-if="one.figure.low !== null && one.figure.high !== null"
              >{{ written(one.figure.low, stream.unit).figure }} to
              {{ written(one.figure.high, stream.unit).figure }}</template
            ><template v-else-if="one.figure.low !== null"
              >over {{ written(one.figure.low, stream.unit).figure }}</template
            >
            <template v-else-if="one.figure.high !== null"
              >under {{ written(one.figure.high, stream.unit).figure }}</template
            >
            <template v-else>not bounded</template>
          </td>
        </tr>
      </tbody>
    </table>

    <div class="mt-3 flex items-baseline border-b border-rule-strong pb-1">
      <h2 class="heading flex-1">Neighbours, same probe</h2>
      <RouterLink to="/matrix" class="go text-2">all in the matrix</RouterLink>
    </div>
    <p v-if="figures.neighbours.length === 0" class="py-2 text-ink-2">No other vantage point runs this probe.</p>
    <ul>
      <li
        v-for="one in figures.neighbours"
        :key="one.stream"
        class="flex items-baseline gap-2 border-b border-rule leading-[23px]"
      >
        <Dome :state="one.state" />
        <RouterLink :to="`/streams/${one.stream}`" class="font-mid hover:underline">{{ one.vantage_point }}</RouterLink>
        <span class="flex-1 truncate text-2 text-ink-2">{{ one.provider }}</span>
        <Figure :of="one.p50" />
        <span class="w-[76px] text-right text-ink-2" title="its median minus this one's">{{
          one.difference === null ? '–' : signed(one.difference, stream.unit)
        }}</span>
      </li>
    </ul>
    <ChangesList :changes="changes" />
  </aside>
</template>
