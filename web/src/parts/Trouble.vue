<script setup lang="ts">
import { computed } from 'vue'

import { HubProblem } from '@/api/client'

/** What could not be read, why, and a way to try again. */
const props = defineProps<{ what: string; error: unknown }>()
defineEmits<{ again: [] }>()
const why = computed(() => (props.error instanceof HubProblem ? props.error.problem : {}))
</script>

<template>
  <div class="my-3 border-l-[3px] border-breached py-0.5 pl-[11px]" role="alert">
    <b class="block">{{ what }} could not be read.</b>
    <span class="text-ink-2">{{ why.title ?? 'The hub does not answer.' }} {{ why.remedy ?? '' }}</span>
    <button class="go ml-2" @click="$emit('again')">Try again</button>
  </div>
</template>
