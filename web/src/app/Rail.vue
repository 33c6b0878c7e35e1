<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { RouterLink, useRoute } from 'vue-router'

import { api, answered } from '@/api/client'
import Spark from '@/parts/Spark.vue'

import { useClock } from './clock'
import OwnMenu from './OwnMenu.vue'
import { duration, full } from './format'
import { useLive } from './live'
import { may } from './session'
import { switchTheme, theme } from './theme'

defineEmits<{ find: [] }>()

// Only areas that work are here; the rail grows with them.
const AREAS = [
  {
    name: 'Watch',
    pages: [
      { name: 'Now', to: '/now', routes: ['now'] },
      { name: 'Matrix', to: '/matrix', routes: ['matrix', 'stream'] },
      { name: 'Map', to: '/map', routes: ['map'] },
      { name: 'Everything', to: '/estate', routes: ['estate'] },
      { name: 'Compare', to: '/compare', routes: ['compare'] },
    ],
  },
  {
    name: 'Arrange',
    pages: [
      { name: 'Vantage points', to: '/vantage-points', routes: ['vantage-points', 'vantage-point'] },
      { name: 'Targets', to: '/targets', routes: ['targets', 'target'] },
      { name: 'Groups', to: '/groups', routes: ['groups', 'group'] },
      { name: 'Probes', to: '/probes', routes: ['probes', 'probe', 'new-probe'] },
      { name: 'Coverage', to: '/coverage', routes: ['coverage'] },
      { name: 'Store', to: '/store', routes: ['store'] },
      { name: 'Access', to: '/access', routes: ['access'], needs: 'administer' as const },
    ],
  },
]
const areas = computed(() =>
  AREAS.map((area) => ({
    ...area,
    pages: area.pages.filter((page) => !('needs' in page && page.needs) || may(page.needs)),
  })),
)

const route = useRoute()
const isOpen = ref(false)
const { now } = useClock()
const { newest, connected } = useLive({})
const arriving = useQuery({
  queryKey: ['arriving'],
  queryFn: () => answered(api.GET('/api/arriving')),
  refetchInterval: 5000,
})

const newestTime = computed(() => {
  const known = arriving.data.value?.newest ? Date.parse(arriving.data.value.newest) : null
  return Math.max(newest.value ?? 0, known ?? 0) || null
})
const age = computed(() => (newestTime.value === null ? null : now.value - newestTime.value))
const isStill = computed(() => age.value === null || age.value > 30_000)
</script>

<template>
  <aside
    class="sticky top-0 flex h-screen flex-col border-r border-rule bg-rail pt-3.5 pb-3 max-phone:static max-phone:h-auto max-phone:border-r-0"
  >
    <div class="flex items-center gap-3.5 max-phone:px-4">
      <RouterLink
        to="/now"
        class="flex items-end gap-[7px] px-4 text-[21px] leading-none font-[620] tracking-[-.015em] max-phone:px-0"
      >
        <svg width="26" height="19" viewBox="0 0 26 19" aria-hidden="true" class="mb-px">
          <path d="M13 0V4" stroke="#a9623a" stroke-width="1.6" />
          <path d="M3 17.2A10 10.4 0 0 1 23 17.2Z" fill="var(--accent)" />
          <path
            d="M13 6.8V17M8.2 17C8.2 12 10 8.6 13 6.8C16 8.6 17.8 12 17.8 17"
            fill="none"
            stroke="var(--rail)"
            stroke-width=".9"
          />
          <path d="M0 18.2H26" stroke="var(--ink)" stroke-width="1.5" />
        </svg>
        Kuppel
      </RouterLink>
      <button
        class="hidden flex-1 text-right font-mid text-accent-ink max-phone:block"
        :aria-expanded="isOpen"
        @click="isOpen = !isOpen"
      >
        Menu
      </button>
    </div>
    <div class="flex flex-1 flex-col" :class="isOpen ? '' : 'max-phone:hidden'">
      <button
        class="mx-4 mt-3 mb-2 flex justify-between border-b border-rule-strong pb-1 text-left text-2 whitespace-nowrap text-ink-3"
        aria-label="Find or do anything, press slash"
        @click="$emit('find')"
      >
        <span>Find or do anything</span><kbd class="font-sans text-ink-2">/</kbd>
      </button>
      <nav aria-label="Main">
        <template v-for="area in areas" :key="area.name">
          <h2 class="px-4 pt-2 pb-px text-2 font-mid text-accent-ink">{{ area.name }}</h2>
          <ul>
            <li v-for="page in area.pages" :key="page.to">
              <RouterLink
                :to="page.to"
                class="relative flex justify-between px-4 leading-[24px] hover:bg-ground/60"
                :class="{ 'current font-bold': page.routes.includes(String(route.name)) }"
                :aria-current="page.routes.includes(String(route.name)) ? 'page' : undefined"
                >{{ page.name }}</RouterLink
              >
            </li>
          </ul>
        </template>
      </nav>
      <footer class="mt-auto px-4 text-1 leading-[1.35] text-ink-2">
        <div class="relative h-4">
          <Spark v-if="!isStill" :values="arriving.data.value?.counts ?? []" label="results a minute, last hour" />
          <div v-else class="hatched h-full" />
        </div>
        <p class="mt-1" aria-live="polite">
          <template v-if="arriving.isError.value || !connected">
            <span class="text-silent-ink">The hub does not answer; trying again.</span>
          </template>
          <template v-else-if="isStill">
            <span class="text-silent-ink">{{
              age === null ? 'No result has arrived yet.' : `Nothing has arrived for ${duration(age)}.`
            }}</span>
          </template>
          <template v-else>
            <b class="text-ink">{{ arriving.data.value?.per_minute ?? 0 }}</b> results/min<br />
            <span :title="newestTime ? full(newestTime) : ''">newest {{ duration(age ?? 0) }} ago</span>
          </template>
        </p>
        <div class="mt-[7px] flex justify-between border-t border-rule pt-[7px]">
          <OwnMenu />
          <button
            class="min-h-6 text-accent-ink"
            :aria-label="`Switch to ${theme === 'night' ? 'day' : 'night'}`"
            @click="switchTheme"
          >
            {{ theme === 'night' ? 'day' : 'night' }}
          </button>
        </div>
      </footer>
    </div>
  </aside>
</template>

<style scoped>
.current::after {
  content: '';
  position: absolute;
  right: -1px;
  top: 5px;
  width: 7px;
  height: 13px;
  background: var(--accent);
  border-radius: 7px 0 0 7px;
}
</style>
