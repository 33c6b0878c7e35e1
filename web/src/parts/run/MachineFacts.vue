<script setup lang="ts">
import type { Shapes } from '@/api/client'
import { bytes, inWords } from '@/app/format'

/** What a machine has: disks, cards, and what was asked for beyond. */
defineProps<{ detail: Shapes['RunDetail'] }>()
</script>

<template>
  <div class="mt-1.5 grid grid-cols-2 gap-x-[22px] gap-y-2 text-2 max-phone:grid-cols-1">
    <ul>
      <li v-for="one in detail.disks" :key="String(one.mount)" class="flex gap-2 border-t border-rule leading-[20px]">
        <span class="flex-1 truncate">disk {{ one.mount }}</span>
        <span class="text-ink-2"
          >{{ inWords(Number(one.used_ratio), '1') }} of {{ bytes(Number(one.total)) }} used</span
        >
      </li>
      <li
        v-for="one in detail.interfaces"
        :key="String(one.name)"
        class="flex gap-2 border-t border-rule leading-[20px]"
      >
        <span>{{ one.name }}</span>
        <span class="flex-1 truncate text-ink-2">{{ (one.addresses as string[]).join(', ') }}</span>
        <span class="text-ink-3">{{ one.is_up ? `MTU ${one.mtu}` : 'down' }}</span>
      </li>
    </ul>
    <ul v-if="detail.connections?.length || detail.processes?.length">
      <li
        v-for="(one, index) in (detail.connections ?? []).slice(0, 10)"
        :key="index"
        class="flex gap-2 border-t border-rule leading-[20px]"
      >
        <span class="flex-1 truncate">{{ one.process }} to {{ one.peer }}</span>
        <span class="text-ink-2">{{ one.count }} open</span>
      </li>
      <li
        v-for="(one, index) in detail.processes ?? []"
        :key="`p${index}`"
        class="flex gap-2 border-t border-rule leading-[20px]"
      >
        <span class="flex-1 truncate">{{ one.name }}</span>
        <span class="text-ink-2">{{ bytes(Number(one.memory)) }}</span>
      </li>
    </ul>
  </div>
</template>
