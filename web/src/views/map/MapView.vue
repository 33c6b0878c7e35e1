<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, answered } from '@/api/client'
import { useClock } from '@/app/clock'
import { useFresh } from '@/app/fresh'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import { may } from '@/app/session'
import Pick from '@/parts/Pick.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

import PlaceList from './PlaceList.vue'
import PlaceMap from './PlaceMap.vue'
import { coasts } from './coasts'
import { coursesOf, placed } from './places'
import { usePointed } from './pointed'

const { asked } = useClock()
useFresh(() => true, 10_000)
const target = useKept<string>('target', '')
const chosen = useKept<string>('place', '')

const land = useQuery({ queryKey: ['map layer'], queryFn: coasts, staleTime: Infinity })
const refused = ref('')
async function put(told: Promise<Response>): Promise<void> {
  const response = await told
  refused.value = response.ok
    ? ''
    : `The layer is refused: ${String(((await response.json()) as { title?: string }).title)}`
  if (response.ok) await land.refetch()
}
async function give(event: Event): Promise<void> {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  const headers = { 'Content-Type': 'application/geo+json' }
  await put(fetch('/api/map-layer', { method: 'PUT', body: await file.text(), headers }))
}
function takeAway(): Promise<void> {
  return put(fetch('/api/map-layer', { method: 'DELETE' }))
}
const points = useQuery({
  queryKey: ['map', target, asked],
  queryFn: () =>
    answered(
      api.GET('/api/overview/points', {
        params: { query: { of: 'all', ...asked.value, ...(target.value ? { target: Number(target.value) } : {}) } },
      }),
    ),
})
const sailed = useQuery({
  queryKey: ['courses', asked],
  queryFn: () => answered(api.GET('/api/courses', { params: { query: asked.value } })),
})
const data = computed(() => points.data.value)
const courses = computed(() => coursesOf(sailed.data.value ?? [], data.value?.points ?? []))
usePage(
  () => 'Map',
  () => (data.value ? `${data.value.points.length} vantage points, ${data.value.targets.length} targets` : ''),
)
const found = computed(() => placed(data.value?.points ?? [], data.value?.unit ?? ''))

/* One place is pointed at: on the map or in the list. */
const { pointed, look } = usePointed()
function choose(key: string): void {
  chosen.value = chosen.value === key ? '' : key
}
const looked = computed(() => pointed.value ?? chosen.value)
const targets = computed(() => [
  { key: '', label: 'everything' },
  ...(data.value?.targets ?? []).map((one) => ({ key: String(one.id), label: one.name })),
])
const quantity = computed(() =>
  data.value?.quantity
    ? `length is the ${data.value.quantity === 'total' ? 'median time' : data.value.quantity.replaceAll('_', ' ')}`
    : '',
)
</script>

<template>
  <div class="mt-3 mb-2 flex flex-wrap items-center gap-x-3 text-2 text-ink-2">
    <Pick v-model="target" :options="targets" label="to" />
    <span>{{ quantity }}, on a root scale; a dome rises where it is not fine</span>
    <span v-if="courses.length"
      ><i class="mr-1 inline-block w-4 border-t-[1.5px] border-line align-middle opacity-55" />course in this
      window<template v-if="courses.some((one) => one.isSilent)"
        >, <i class="mr-1 inline-block w-4 border-t-[1.5px] border-dashed border-silent align-middle" />the last of what
        is silent</template
      ></span
    >
    <span class="flex-1" />
    <template v-if="may('administer')">
      <label class="go focus-within:shadow-[var(--focus)]"
        >a layer of one’s own<input
          type="file"
          class="sr-only"
          accept=".geojson,.json,application/geo+json"
          aria-label="Draw a layer of one’s own: a GeoJSON file"
          @change="give"
      /></label>
      <button v-if="land.data.value?.isOwn" class="go" @click="takeAway">the world’s coasts</button>
    </template>
  </div>
  <p v-if="refused" class="mb-2 text-2 text-breached-ink" role="alert">{{ refused }}</p>
  <Trouble v-if="points.isError.value" what="The places" :error="points.error.value" @again="points.refetch()" />
  <Waiting v-if="points.isPending.value" what="Reading every vantage point." />
  <div class="grid grid-cols-[minmax(0,1fr)_310px] gap-x-7 max-[1000px]:block">
    <div>
      <PlaceMap
        v-model:chosen="chosen"
        class="h-[min(640px,calc(100vh-210px))] min-h-[420px]"
        :places="found.places"
        :targets="data?.targets ?? []"
        :unit="data?.unit ?? ''"
        :land="land.data.value"
        :courses="courses"
        :pointed="pointed"
        @look="look"
      />
      <Trouble v-if="land.isError.value" what="The coasts" :error="land.error.value" @again="land.refetch()" />
      <p v-if="data && found.places.length === 0" class="mt-2 text-2 text-ink-2">
        Nothing has a place yet. An agent tells its position when it is told so, a target has it in its form.
      </p>
    </div>
    <PlaceList
      :places="found.places"
      :nowhere="found.nowhere"
      :targets="data?.targets ?? []"
      :unit="data?.unit ?? ''"
      :looked="looked"
      @look="look"
      @choose="choose"
    />
  </div>
</template>
