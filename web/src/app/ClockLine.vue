<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems, Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { computed, ref } from 'vue'

import Choice from '@/parts/Choice.vue'

import { AGAINST, SPANS, useClock, type SpanKey } from './clock'
import { full, zone } from './format'
import { pageName, pageNote } from './page'

const clockwork = useClock()
const { span, window, words, isFollowing, isPinned, instantWords, against, againstKey, againstWords } = clockwork
const spans = SPANS.map((one) => ({ key: one.key, label: one.name }))
const chosen = computed({ get: () => span.value.key, set: (key: SpanKey) => clockwork.chooseSpan(key) })
const hover = computed(() => `${full(window.value.from)} to ${full(window.value.to)}: type another`)

/* A window that is typed, in the reader's own time. */
function typed(time: number): string {
  const local = new Date(time - new Date(time).getTimezoneOffset() * 60_000)
  return local.toISOString().slice(0, 16)
}
const from = ref('')
const to = ref('')
const wrong = ref('')
function begin(): void {
  from.value = typed(window.value.from)
  to.value = typed(window.value.to)
  wrong.value = ''
}
function take(close: () => void): void {
  const stretch = { from: Date.parse(from.value), to: Date.parse(to.value) }
  if (!(stretch.from < stretch.to)) {
    wrong.value = 'The window must end after it begins.'
    return
  }
  clockwork.choose(stretch)
  close()
}
</script>

<template>
  <div
    class="flex h-10 items-baseline gap-[16px] pt-[11px] text-2 whitespace-nowrap text-ink-2 max-phone:h-auto max-phone:flex-wrap max-phone:gap-x-3.5 max-phone:gap-y-1 max-phone:pb-2"
  >
    <h1 class="text-[19px] leading-none font-[620] tracking-[-.01em] text-ink">{{ pageName }}</h1>
    <span class="min-w-0 overflow-hidden text-ellipsis max-phone:hidden">{{ pageNote }}</span>
    <span class="flex-1 max-phone:hidden" />
    <Choice v-model="chosen" :options="spans" label="span of the ribbon" is-plain />
    <Popover v-slot="{ close }" class="relative">
      <PopoverButton class="hover:text-ink" :title="hover" @click="begin"
        >window <b class="border-b border-dotted border-rule-strong text-ink">{{ words }}</b></PopoverButton
      >
      <PopoverPanel class="lifted absolute right-0 z-20 mt-1 px-3.5 py-3" focus>
        <form class="grid grid-cols-[auto_auto] items-baseline gap-x-3 gap-y-2" @submit.prevent="take(close)">
          <label for="window-from">from</label>
          <input id="window-from" v-model="from" type="datetime-local" class="field" required />
          <label for="window-to">to</label>
          <input id="window-to" v-model="to" type="datetime-local" class="field" required />
          <p v-if="wrong" class="col-span-2 text-breached-ink">{{ wrong }}</p>
          <button class="go col-start-2 justify-self-end">Look at it</button>
        </form>
      </PopoverPanel>
    </Popover>
    <Menu as="div" class="relative">
      <MenuButton class="text-ghost-ink" title="Key c"
        >against <span class="border-b border-dashed border-ghost">{{ againstWords }}</span></MenuButton
      >
      <MenuItems class="lifted absolute right-0 z-20 mt-1 py-1 text-ink">
        <MenuItem v-for="one in AGAINST" :key="one.key" v-slot="{ active }">
          <button
            class="block w-full px-3.5 text-left leading-[25px]"
            :class="[{ 'bg-accent-wash': active }, one.key === againstKey ? 'font-bold' : '']"
            @click="clockwork.holdAgainst(one.key)"
          >
            {{ one.label }}
          </button>
        </MenuItem>
        <p v-if="against" class="border-t border-rule px-3.5 pt-1 text-1 text-ink-3">
          Drag the dashed window on the ribbon for another.
        </p>
      </MenuItems>
    </Menu>
    <button v-if="isPinned" class="go" title="Esc lets it go" @click="clockwork.unpin">
      pinned at {{ instantWords }}
    </button>
    <span v-if="isFollowing" class="text-accent-ink" :title="`Times are of ${zone}`">following now</span>
    <button v-else class="go" title="Key n" @click="clockwork.follow">held, back to now</button>
  </div>
</template>
