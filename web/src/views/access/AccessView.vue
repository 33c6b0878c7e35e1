<script setup lang="ts">
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import Choice from '@/parts/Choice.vue'

import PeoplePart from './PeoplePart.vue'
import RecordPart from './RecordPart.vue'
import TokensPart from './TokensPart.vue'

const PARTS = [
  { key: 'people', label: 'people', title: 'who may sign in' },
  { key: 'tokens', label: 'tokens', title: 'for programs and for agents' },
  { key: 'record', label: 'record', title: 'who changed what' },
] as const

const part = useKept('part', 'people', ['people', 'tokens', 'record'])
const search = useKept<string>('find', '')
usePage(
  () => 'Access',
  () => 'who may do what, and who did',
)
</script>

<template>
  <div class="mt-[11px] mb-2 flex flex-wrap items-center gap-2.5">
    <Choice v-model="part" :options="PARTS" label="part" />
    <span class="flex-1" />
    <input
      v-model="search"
      class="h-7 w-52 border-b border-rule-strong bg-transparent px-1 text-2 placeholder:text-ink-3"
      :placeholder="part === 'record' ? 'who, what or from where' : 'narrow by name'"
      aria-label="Narrow"
    />
  </div>
  <PeoplePart v-if="part === 'people'" :search="search" @all="search = ''" />
  <TokensPart v-else-if="part === 'tokens'" :search="search" @all="search = ''" />
  <RecordPart v-else :search="search" @all="search = ''" />
</template>
