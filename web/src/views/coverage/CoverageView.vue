<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { answered, api } from '@/api/client'
import { useClock } from '@/app/clock'
import { duration, ms } from '@/app/format'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import { may } from '@/app/session'
import Narrow from '@/parts/Narrow.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

/** What is not measured, and should perhaps be. */
const { now } = useClock()
const search = useKept<string>('find', '')
const coverage = useQuery({
  queryKey: ['coverage'],
  queryFn: () => answered(api.GET('/api/coverage')),
  refetchInterval: 10_000,
})
const wanted = computed(() => search.value.trim().toLowerCase())
function fits(...texts: string[]): boolean {
  return texts.some((text) => text.toLowerCase().includes(wanted.value))
}
const bare = computed(() => (coverage.data.value?.bare_targets ?? []).filter((one) => fits(one.name, one.note)))
const idle = computed(() => (coverage.data.value?.idle_vantage_points ?? []).filter((one) => fits(one.name, one.note)))
const overdue = computed(() =>
  (coverage.data.value?.overdue ?? []).filter((one) => fits(one.probe, one.vantage_point, one.target)),
)
const behind = computed(() =>
  (coverage.data.value?.not_following ?? []).filter((one) => fits(one.vantage_point.name, one.probe.name, one.tag)),
)
const total = computed(() => bare.value.length + idle.value.length + overdue.value.length + behind.value.length)
usePage(
  () => 'Coverage',
  () => 'what is not measured',
)
</script>

<template>
  <div class="mt-[11px] mb-2 flex flex-wrap items-center gap-2.5">
    <p v-if="coverage.data.value" class="text-5 leading-[1.42]">
      <template v-if="total === 0 && !wanted"
        >Every target has a probe, every vantage point runs one, none is overdue.</template
      >
      <template v-else>
        {{ bare.length }} targets without a probe, {{ idle.length }} vantage points without one,
        {{ overdue.length }} streams overdue, {{ behind.length }} not yet following a tag.
      </template>
    </p>
    <span class="flex-1" />
    <Narrow v-model="search" words="narrow by name" />
  </div>
  <Trouble
    v-if="coverage.isError.value"
    what="The coverage"
    :error="coverage.error.value"
    @again="coverage.refetch()"
  />
  <Waiting v-if="coverage.isPending.value" what="Looking at what is measured." />
  <div v-if="coverage.data.value" class="grid grid-cols-2 gap-x-10 gap-y-5 max-[1000px]:grid-cols-1">
    <section>
      <h2 class="heading border-b border-rule-strong pb-1">Targets that nothing measures</h2>
      <ul>
        <li v-for="one in bare" :key="one.id" class="flex items-baseline gap-3 border-b border-rule py-1">
          <b class="font-mid">{{ one.name }}</b>
          <span class="flex-1 truncate text-ink-2">{{ one.note }}</span>
          <RouterLink v-if="may('edit')" class="go text-2" :to="`/probes/new?target=${one.id}`">Add a probe</RouterLink>
        </li>
      </ul>
      <p v-if="bare.length === 0" class="py-1.5 text-ink-2">Every target has an enabled probe.</p>
    </section>
    <section>
      <h2 class="heading border-b border-rule-strong pb-1">Vantage points that measure nothing</h2>
      <ul>
        <li v-for="one in idle" :key="one.id" class="flex items-baseline gap-3 border-b border-rule py-1">
          <b class="font-mid">{{ one.name }}</b>
          <span class="flex-1 truncate text-ink-2">{{ one.note }}</span>
          <RouterLink v-if="may('edit')" class="go text-2" :to="`/probes/new?from=${one.id}`">Add a probe</RouterLink>
        </li>
      </ul>
      <p v-if="idle.length === 0" class="py-1.5 text-ink-2">Every vantage point runs an enabled probe.</p>
    </section>
    <section>
      <h2 class="heading border-b border-rule-strong pb-1">Runs that are overdue</h2>
      <ul>
        <li v-for="one in overdue" :key="one.stream" class="flex items-baseline gap-3 border-b border-rule py-1">
          <RouterLink class="go" :to="`/streams/${one.stream}`">{{ one.probe }}</RouterLink>
          <span class="flex-1 truncate text-ink-2">from {{ one.vantage_point }} to {{ one.target }}</span>
          <span class="text-silent-ink">{{
            one.last_run ? `none for ${duration(now - ms(one.last_run))}` : 'never ran'
          }}</span>
        </li>
      </ul>
      <p v-if="overdue.length === 0" class="py-1.5 text-ink-2">Every stream has run when its schedule says so.</p>
    </section>
    <section>
      <div class="flex items-baseline border-b border-rule-strong pb-1">
        <h2 class="heading flex-1">Not yet following a tag</h2>
        <a class="go text-2" href="/api/coverage.csv" download>Export the list</a>
      </div>
      <ul>
        <li
          v-for="one in behind"
          :key="`${one.vantage_point.id}/${one.probe.id}/${one.tag}`"
          class="flex items-baseline gap-3 border-b border-rule py-1"
        >
          <b class="font-mid">{{ one.vantage_point.name }}</b>
          <span class="flex-1 truncate text-ink-2">is tagged {{ one.tag }}, but does not run</span>
          <RouterLink class="go" :to="`/probes/${one.probe.id}`">{{ one.probe.name }}</RouterLink>
        </li>
      </ul>
      <p v-if="behind.length === 0" class="py-1.5 text-ink-2">
        Whoever has a tag runs what most others of that tag run.
      </p>
    </section>
  </div>
  <p v-if="coverage.data.value" class="mt-5 text-2 text-ink-3">
    Hosts that are seen in device, flow or message telemetry but not measured are listed here once such telemetry is
    collected.
  </p>
</template>
