<script setup lang="ts">
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { computed, ref } from 'vue'
import { RouterLink, useRoute } from 'vue-router'

import { useSaved } from '@/app/saved'

/** Saved ways of looking at this screen, and a field to save this one under a name. */
const route = useRoute()
const { views, keep, forget } = useSaved()
const own = computed(() => views.value.filter((one) => one.body.address.split('?')[0] === route.path))
const name = ref('')

async function save(close: () => void): Promise<void> {
  await keep.mutateAsync({ name: name.value.trim(), body: { kind: 'view', address: route.fullPath } })
  name.value = ''
  close()
}
</script>

<template>
  <Popover v-slot="{ close }" class="relative text-2">
    <PopoverButton class="go">{{ own.length ? `saved ${own.length}` : 'save' }}</PopoverButton>
    <PopoverPanel class="lifted absolute right-0 z-20 mt-1 w-[260px] px-3.5 py-2.5">
      <p v-for="one in own" :key="one.id" class="flex items-baseline justify-between gap-3 leading-[25px]">
        <RouterLink :to="one.body.address" class="min-w-0 truncate hover:underline" @click="close()">{{
          one.name
        }}</RouterLink>
        <button class="go" :aria-label="`Forget ${one.name}`" @click="forget.mutate(one.id)">forget</button>
      </p>
      <form class="mt-1 flex items-baseline gap-2" @submit.prevent="save(close)">
        <input
          v-model="name"
          class="min-w-0 flex-1 border-b border-rule-strong bg-transparent py-0.5"
          placeholder="name for this view"
          aria-label="Name for this view"
          maxlength="80"
          required
        />
        <button class="go">Save</button>
      </form>
      <p v-if="keep.isError.value" class="text-breached-ink">{{ keep.error.value?.message }}</p>
    </PopoverPanel>
  </Popover>
</template>
