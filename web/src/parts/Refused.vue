<script setup lang="ts">
import type { Wrong } from '@/app/doing'

/** What the hub refused, above what it refused. */
defineProps<{ wrong: Wrong | null }>()
</script>

<template>
  <p v-if="wrong" class="my-2 border-l-[3px] border-breached pl-[11px] text-breached-ink" role="alert">
    {{ wrong.told }}
  </p>
</template>
