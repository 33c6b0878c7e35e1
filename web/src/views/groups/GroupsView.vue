<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { answered, api, type Shapes } from '@/api/client'
import { useDoing } from '@/app/doing'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import { may } from '@/app/session'
import Dome from '@/parts/Dome.vue'
import Narrow from '@/parts/Narrow.vue'
import OpenedRow from '@/parts/OpenedRow.vue'
import Refused from '@/parts/Refused.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

import GroupForm from './GroupForm.vue'

/** What belongs together: an application, a site, a team's estate. */
type Group = Shapes['GroupShape']

const groups = useQuery({
  queryKey: ['groups'],
  queryFn: () => answered(api.GET('/api/groups')),
  refetchInterval: 10_000,
})
const search = useKept<string>('find', '')
const opened = useKept<string>('group', '')
const asking = ref<number | null>(null)
const { wrong, attempt } = useDoing()
const found = computed(() => {
  const wanted = search.value.trim().toLowerCase()
  return (groups.data.value ?? []).filter((one) =>
    [one.name, one.description ?? '', ...(one.tags ?? [])].some((text) => text.toLowerCase().includes(wanted)),
  )
})
usePage(
  () => 'Groups',
  () => 'what belongs together',
)
const saved = async () => {
  opened.value = ''
  await groups.refetch()
}
const remove = (group: Group) =>
  attempt(async () => {
    await answered(api.DELETE('/api/groups/{group}', { params: { path: { group: group.id } } }))
    asking.value = null
    await groups.refetch()
  })
function membersOf(group: Group): string {
  const counts = (['target', 'probe', 'vantage_point'] as const).flatMap((kind) => {
    const count = (group.members ?? []).filter((one) => one.kind === kind).length
    const word = kind.replace('_', ' ')
    return count ? [`${count} ${count === 1 ? word : `${word}s`}`] : []
  })
  const tags = group.tags?.length ? [`whatever is tagged ${group.tags.join(' or ')}`] : []
  return [...counts, ...tags].join(', ') || 'nothing yet'
}
</script>

<template>
  <div class="mt-[11px] mb-2 flex flex-wrap items-center gap-2.5">
    <button v-if="may('edit') && opened !== 'new'" class="btn btn-main" @click="opened = 'new'">Make a group</button>
    <span class="flex-1" />
    <Narrow v-model="search" words="narrow by name or tag" />
  </div>
  <Refused :wrong="wrong" />
  <Trouble v-if="groups.isError.value" what="The groups" :error="groups.error.value" @again="groups.refetch()" />
  <Waiting v-if="groups.isPending.value" what="Reading the groups." />
  <GroupForm v-if="opened === 'new'" @saved="saved" @left="opened = ''" />
  <p v-if="groups.data.value?.length === 0 && opened !== 'new'" class="max-w-[60ch] py-6 text-ink-2">
    <b class="block text-4 text-ink">Nothing is grouped yet.</b>
    A group holds the targets, probes and vantage points of an application, a site or a team, put in by hand or by a tag
    that they have. Its state is that of its worst quarter.
  </p>
  <div v-if="found.length" class="relative max-phone:overflow-x-auto">
    <table class="w-full border-collapse">
      <thead class="text-2 text-ink-3">
        <tr>
          <th class="border-b border-rule-strong py-[3px]">group</th>
          <th class="border-b border-rule-strong">what it is</th>
          <th class="border-b border-rule-strong">holds</th>
          <th class="border-b border-rule-strong text-right">streams not fine</th>
          <th class="border-b border-rule-strong"><span class="sr-only">what to do</span></th>
        </tr>
      </thead>
      <tbody v-for="one in found" :key="one.id">
        <tr class="leading-[28px]">
          <th class="border-b border-rule pr-3 font-mid whitespace-nowrap">
            <Dome :state="one.summary.is_affected ? one.summary.state : 'fine'" />
            <RouterLink :to="`/groups/${one.id}`" class="ml-1 hover:underline">{{ one.name }}</RouterLink>
            <span class="ml-1 text-2 font-normal text-ink-2">{{
              one.summary.is_affected ? one.summary.state : 'not affected'
            }}</span>
          </th>
          <td class="max-w-[40ch] truncate border-b border-rule pr-3 text-ink-2">{{ one.description }}</td>
          <td class="border-b border-rule pr-3">{{ membersOf(one) }}</td>
          <td class="border-b border-rule pr-3 text-right">
            {{ one.summary.not_fine }} <span class="text-ink-3">of {{ one.summary.streams }}</span>
          </td>
          <td class="border-b border-rule text-right text-2 whitespace-nowrap">
            <template v-if="may('edit')">
              <button
                class="go mr-3"
                :aria-label="`Change ${one.name}`"
                @click="opened = opened === String(one.id) ? '' : String(one.id)"
              >
                {{ opened === String(one.id) ? 'close' : 'Change' }}
              </button>
              <button class="go" :aria-label="`Remove ${one.name}`" @click="asking = asking === one.id ? null : one.id">
                Remove
              </button>
            </template>
          </td>
        </tr>
        <OpenedRow v-if="opened === String(one.id)" :columns="5">
          <GroupForm :group="one" @saved="saved" @left="opened = ''" />
        </OpenedRow>
        <OpenedRow v-if="asking === one.id" :columns="5">
          <p class="mb-2">The group is forgotten. Everything in it stays as it is.</p>
          <button class="btn btn-grave" @click="remove(one)">Remove {{ one.name }}</button>
          <button class="btn ml-2" @click="asking = null">Keep it</button>
        </OpenedRow>
      </tbody>
    </table>
  </div>
  <p v-if="groups.data.value?.length && found.length === 0" class="py-4 text-ink-2">
    No group is called that. <button class="go" @click="search = ''">Show all</button>
  </p>
</template>
