<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { api, answered, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { day, duration, full, inWords, moment, ms } from '@/app/format'
import { useFresh } from '@/app/fresh'
import { usePage } from '@/app/page'
import Dome from '@/parts/Dome.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

import { useSaved } from '@/app/saved'

import PinnedChart from './PinnedChart.vue'
import MatterSeries from './MatterSeries.vue'

const KINDS = [
  { key: 'public', label: 'public' },
  { key: 'site', label: 'sites' },
  { key: 'mobile', label: 'on the move' },
  { key: 'personal', label: 'people' },
] as const

const { asked, window, now } = useClock()
useFresh(() => true, 5000)
const { charts, views } = useSaved()
/* Small series: at this size nobody sees less than a pixel, so their end goes on a step at a time, not with every result. */
const COLUMNS = 70
const stretch = computed(() => {
  const { from, to } = window.value
  const step = (to - from) / COLUMNS
  const end = Math.ceil(to / step) * step
  return { from: end - (to - from), to: end }
})
const found = useQuery({
  queryKey: ['now', asked],
  queryFn: () => {
    const { from, to } = stretch.value
    const query = { from: new Date(from).toISOString(), to: new Date(to).toISOString(), points: COLUMNS }
    return answered(api.GET('/api/now', { params: { query } }))
  },
})
const data = computed(() => found.data.value)
usePage(
  () => 'Now',
  () => `${day(now.value)}`,
)

const kinds = computed(() =>
  KINDS.map((kind) => {
    const points = (data.value?.vantage_points ?? []).filter((one) => one.kind === kind.key)
    return { ...kind, points, affected: points.filter((one) => one.is_affected).length }
  }).filter((kind) => kind.points.length),
)
const silent = computed(() => (data.value?.vantage_points ?? []).filter((one) => one.state === 'silent'))
const targets = computed(() => (data.value?.targets ?? []).filter((one) => one.is_affected))
/** Where all of a matter is seen. */
function leads(one: Shapes['MatterShape']): string {
  if (one.scope === 'stream') return `/streams/${one.shown.stream}`
  return `${one.scope === 'probe' ? '/probes' : '/matrix'}?find=${encodeURIComponent(one.name)}`
}
</script>

<template>
  <Trouble v-if="found.isError.value" what="What needs attention" :error="found.error.value" @again="found.refetch()" />
  <Waiting v-if="found.isPending.value" what="Reading what needs attention." />
  <div v-if="data" class="mt-3 grid grid-cols-[minmax(0,1fr)_268px] gap-x-8 max-phone:grid-cols-1">
    <section aria-label="What needs attention">
      <p class="max-w-[60ch] pb-3 text-5 leading-[1.42] tracking-[-.004em] text-pretty">
        {{ data.sentence }}
      </p>
      <p v-if="data.vantage_points.length === 0" class="max-w-[56ch] py-5 text-ink-2">
        A sentence appears here for each thing that is wrong, worst first.
        <RouterLink to="/vantage-points?put=yes" class="go">Put an agent on a machine</RouterLink>, then add a target
        and a probe.
      </p>
      <template v-else-if="data.matters.length === 0">
        <p v-for="one in data.closest" :key="one.stream" class="border-t border-rule py-2 text-ink-2">
          {{ one === data.closest[0] ? 'Closest to trouble:' : 'Then' }}
          <RouterLink :to="`/streams/${one.stream}`" class="go"
            >{{ one.vantage_point }} to the {{ one.target }}</RouterLink
          >, {{ inWords(one.figure.value, one.figure.unit) }} in the last hour, degraded at
          {{ inWords(one.limit, one.figure.unit) }}.
        </p>
      </template>
      <ul class="border-t border-rule">
        <li
          v-for="one in data.matters"
          :key="`${one.scope} ${one.name}`"
          data-matter
          class="grid grid-cols-[26px_minmax(0,1fr)_140px_92px] items-start gap-x-3 border-b border-rule py-3 max-phone:grid-cols-[26px_minmax(0,1fr)]"
        >
          <Dome :state="one.state" :width="20" class="mt-1" />
          <div>
            <p class="text-4 leading-[1.4]">
              <b>{{ one.sentence.replace(/\.?$/, '.') }}</b>
            </p>
            <p class="mt-1 text-2 text-ink-2">
              <RouterLink :to="leads(one)" class="go">{{
                one.scope === 'stream' ? one.shown.probe : `${one.streams.length} of ${one.of} streams`
              }}</RouterLink><template v-if="one.scope !== 'stream'"
                >, such as
                <RouterLink :to="`/streams/${one.shown.stream}`" class="go">{{ one.shown.probe }}</RouterLink></template
              >, {{ one.shown.kind_label
              }}<template v-if="one.figure.value !== null"
                >: {{ inWords(one.figure.value, one.figure.unit)
                }}<template v-if="one.usual !== null"
                  >, usually {{ inWords(one.usual, one.figure.unit) }}</template
                ></template
              >
            </p>
          </div>
          <MatterSeries :matter="one" :series="one.series" :stretch="stretch" class="max-phone:hidden" />
          <p
            class="text-right text-2 leading-[1.5] max-phone:col-start-2 max-phone:text-left"
            :title="one.since ? full(ms(one.since)) : ''"
          >
            <template v-if="one.since">
              since {{ moment(ms(one.since), now) }}<br /><span class="text-ink-3">{{
                duration(now - ms(one.since))
              }}</span>
            </template>
          </p>
        </li>
      </ul>
      <template v-if="charts.length">
        <h2 class="heading mt-6 border-b border-rule-strong pb-1">Pinned</h2>
        <PinnedChart v-for="one in charts" :key="one.id" :pin="one" />
      </template>
    </section>
    <aside class="text-2">
      <h2 class="heading border-b border-rule-strong pb-1">How much is affected</h2>
      <div
        v-for="kind in kinds"
        :key="kind.key"
        class="flex items-end justify-between gap-3 border-b border-rule py-1.5"
      >
        <span class="w-[76px] flex-none">{{ kind.label }}</span>
        <span class="flex flex-1 flex-wrap gap-x-px" aria-hidden="true">
          <Dome v-for="point in kind.points" :key="point.id" :state="point.state" :width="11" is-mute />
        </span>
        <span class="flex-none text-right">
          <template v-if="kind.affected"
            ><b>{{ kind.affected }}</b> <span class="text-ink-3">of {{ kind.points.length }}</span></template
          >
          <span v-else class="text-ink-2">all {{ kind.points.length }} fine</span>
        </span>
      </div>
      <div class="flex items-baseline justify-between gap-3 border-b border-rule py-1.5">
        <span>targets</span>
        <span v-if="targets.length"
          ><b>{{ targets.length }}</b> <span class="text-ink-3">of {{ data.targets.length }}</span></span
        >
        <span v-else class="text-ink-2">all {{ data.targets.length }} fine</span>
      </div>
      <template v-if="silent.length">
        <h2 class="heading mt-6 border-b border-rule-strong pb-1">Silent</h2>
        <p v-for="one in silent" :key="one.id" class="flex justify-between gap-3 border-b border-rule py-1.5">
          <span><Dome state="silent" :width="12" class="mr-1.5" is-mute />{{ one.name }}</span>
          <span class="text-ink-2" :title="full(ms(one.seen))">last seen {{ moment(ms(one.seen), now) }}</span>
        </p>
      </template>
      <template v-if="views.length">
        <h2 class="heading mt-6 border-b border-rule-strong pb-1">Saved views</h2>
        <p v-for="one in views" :key="one.id" class="border-b border-rule py-1.5">
          <RouterLink :to="one.body.address" class="go">{{ one.name }}</RouterLink>
        </p>
      </template>
      <template v-if="data.expiring.length">
        <h2 class="heading mt-6 border-b border-rule-strong pb-1">Certificates, next to end</h2>
        <p
          v-for="one in data.expiring"
          :key="one.stream"
          class="flex justify-between gap-3 border-b border-rule py-1.5"
        >
          <span
            ><Dome :state="one.state" :width="12" class="mr-1.5" is-mute /><RouterLink
              :to="`/streams/${one.stream}`"
              class="hover:underline"
              >{{ one.target }}</RouterLink
            ></span
          >
          <span :title="full(ms(one.expires))"
            ><b>{{ one.days.toFixed(0) }}</b> <span class="text-ink-3">days</span></span
          >
        </p>
      </template>
    </aside>
  </div>
</template>
