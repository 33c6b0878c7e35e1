<script setup lang="ts">
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions, Dialog, DialogPanel } from '@headlessui/vue'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, answered } from '@/api/client'
import Dome from '@/parts/Dome.vue'

import { AGAINST, SPANS, useClock } from './clock'
import { useSaved } from './saved'
import { may } from './session'
import { switchTheme, theme } from './theme'

const open = defineModel<boolean>('open', { required: true })
const router = useRouter()
const { chooseSpan, follow, holdAgainst } = useClock()
const text = ref('')

interface Thing {
  key: string
  group: 'Go to' | 'Do'
  label: string
  note: string
  state?: 'fine' | 'degraded' | 'breached' | 'silent'
  act: () => void
}

const targets = useQuery({
  queryKey: ['targets'],
  queryFn: () => answered(api.GET('/api/targets')),
  enabled: open,
})
const points = useQuery({
  queryKey: ['vantage-points'],
  queryFn: () => answered(api.GET('/api/vantage-points')),
  enabled: open,
})
const groups = useQuery({
  queryKey: ['groups'],
  queryFn: () => answered(api.GET('/api/groups')),
  enabled: open,
})
const { views } = useSaved()
const streams = useQuery({
  queryKey: ['streams'],
  queryFn: () => answered(api.GET('/api/streams')),
  enabled: open,
})

const things = computed<Thing[]>(() => [
  {
    key: 'now',
    group: 'Go to',
    label: 'Now',
    note: 'what needs attention',
    act: () => router.push('/now'),
  },
  {
    key: 'matrix',
    group: 'Go to',
    label: 'Matrix',
    note: 'compare places and targets',
    act: () => router.push('/matrix'),
  },
  {
    key: 'points',
    group: 'Go to',
    label: 'Vantage points',
    note: 'who measures',
    act: () => router.push('/vantage-points'),
  },
  ...(
    [
      ['map', 'Map', 'where it is'],
      ['estate', 'Everything', 'all of it in figures'],
      ['compare', 'Compare', 'streams side by side'],
      ['targets', 'Targets', 'what is measured'],
      ['groups', 'Groups', 'what belongs together'],
      ['probes', 'Probes', 'what is measured how'],
      ['coverage', 'Coverage', 'what is not measured'],
      ['store', 'Store', 'what is kept, and for how long'],
    ] as const
  ).map(([path, label, note]): Thing => ({
    key: path,
    group: 'Go to',
    label,
    note,
    act: () => router.push(`/${path}`),
  })),
  ...(may('edit')
    ? [
        {
          key: 'new-probe',
          group: 'Do' as const,
          label: 'Add a probe',
          note: 'and try it',
          act: () => router.push('/probes/new'),
        },
      ]
    : []),
  ...(may('administer')
    ? [
        {
          key: 'access',
          group: 'Go to' as const,
          label: 'Access',
          note: 'people, tokens, the record',
          act: () => router.push('/access'),
        },
      ]
    : []),
  ...views.value.map((one): Thing => ({
    key: `view-${one.id}`,
    group: 'Go to',
    label: one.name,
    note: 'saved view',
    act: () => router.push(one.body.address),
  })),
  // What is marked as important comes first.
  ...[...(targets.data.value ?? [])]
    .sort((one, other) => Number(other.is_important) - Number(one.is_important))
    .map((one): Thing => ({
      key: `target-${one.id}`,
      group: 'Go to',
      label: one.name,
      note: one.is_important ? 'important target' : 'target',
      act: () => router.push(`/targets/${one.id}`),
    })),
  ...(points.data.value ?? []).map((one): Thing => ({
    key: `point-${one.id}`,
    group: 'Go to',
    label: one.name,
    note: `vantage point, ${one.provider}`,
    act: () => router.push(`/vantage-points/${one.id}`),
  })),
  ...(groups.data.value ?? []).map((one): Thing => ({
    key: `group-${one.id}`,
    group: 'Go to',
    label: one.name,
    note: 'group',
    act: () => router.push(`/groups/${one.id}`),
  })),
  ...(streams.data.value ?? []).map((one): Thing => ({
    key: `stream-${one.stream}`,
    group: 'Go to',
    label: `${one.probe} from ${one.vantage_point}`,
    note: `${one.kind_label}, ${one.state}`,
    state: one.state,
    act: () => router.push(`/streams/${one.stream}`),
  })),
  { key: 'follow', group: 'Do', label: 'Follow now', note: 'key n', act: follow },
  ...AGAINST.map((one): Thing => ({
    key: `against-${one.key}`,
    group: 'Do',
    label: `Compare with ${one.label}`,
    note: 'key c',
    act: () => holdAgainst(one.key),
  })),
  {
    key: 'theme',
    group: 'Do',
    label: theme.value === 'night' ? 'Switch to day' : 'Switch to night',
    note: 'remembered here',
    act: switchTheme,
  },
  ...SPANS.map((one): Thing => ({
    key: `span-${one.key}`,
    group: 'Do',
    label: `Look at ${one.name}`,
    note: 'span of the ribbon',
    act: () => chooseSpan(one.key),
  })),
])

const found = computed(() => {
  const words = text.value.toLowerCase().split(/\s+/).filter(Boolean)
  const fits = things.value.filter((thing) =>
    words.every((word) => `${thing.label} ${thing.note}`.toLowerCase().includes(word)),
  )
  return (['Go to', 'Do'] as const)
    .map((group) => ({ group, things: fits.filter((thing) => thing.group === group).slice(0, 9) }))
    .filter((one) => one.things.length > 0)
})

watch(open, () => (text.value = ''))

function choose(thing: Thing | null): void {
  if (!thing) return
  open.value = false
  thing.act()
}
</script>

<template>
  <Dialog :open="open" class="relative z-20" @close="open = false">
    <DialogPanel class="lifted fixed top-16 left-1/2 w-[min(520px,calc(100vw-32px))] -translate-x-1/2 pt-2.5 pb-1.5">
      <Combobox :model-value="null" nullable @update:model-value="choose">
        <ComboboxInput
          class="w-full border-b border-rule-strong bg-transparent px-3.5 pb-2 text-4 focus-visible:shadow-none"
          placeholder="Find or do anything"
          aria-label="Find or do anything"
          @change="text = $event.target.value"
        />
        <ComboboxOptions static class="max-h-[60vh] overflow-y-auto">
          <template v-for="group in found" :key="group.group">
            <li class="px-3.5 pt-[7px] pb-px text-2 text-ink-3" role="presentation">{{ group.group }}</li>
            <ComboboxOption
              v-for="thing in group.things"
              :key="thing.key"
              v-slot="{ active }"
              :value="thing"
              as="template"
            >
              <li class="flex justify-between gap-4 px-3.5 leading-[25px]" :class="{ 'bg-accent-wash': active }">
                <span class="truncate"><Dome v-if="thing.state" :state="thing.state" /> {{ thing.label }}</span>
                <span class="text-2 whitespace-nowrap text-ink-3">{{ thing.note }}</span>
              </li>
            </ComboboxOption>
          </template>
          <li v-if="found.length === 0" class="px-3.5 py-2 text-ink-2">
            Nothing is called that. Try a vantage point, a probe or a target.
          </li>
        </ComboboxOptions>
      </Combobox>
    </DialogPanel>
  </Dialog>
</template>
