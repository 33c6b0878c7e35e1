<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import type { Shapes } from '@/api/client'
import Trouble from '@/parts/Trouble.vue'
import PlaceMap from '@/views/map/PlaceMap.vue'
import { coasts } from '@/views/map/coasts'
import { placed } from '@/views/map/places'
import { usePointed } from '@/views/map/pointed'

/** Where the vantage points of a page stand; nothing while fewer than two places are known. */
const props = defineProps<{ points: Shapes['PointsShape'] }>()
const found = computed(() => placed(props.points.points, props.points.unit))
const isWorth = computed(() => found.value.places.length > 1)
const land = useQuery({ queryKey: ['map layer'], queryFn: coasts, staleTime: Infinity, enabled: isWorth })
const chosen = ref('')
const { pointed, look } = usePointed()
</script>

<template>
  <section v-if="isWorth" class="mt-4">
    <h2 class="heading mb-1">Where</h2>
    <PlaceMap
      v-model:chosen="chosen"
      class="h-[300px]"
      :places="found.places"
      :targets="points.targets"
      :unit="points.unit"
      :land="land.data.value"
      :pointed="pointed"
      @look="look"
    />
    <Trouble v-if="land.isError.value" what="The coasts" :error="land.error.value" @again="land.refetch()" />
  </section>
</template>
