<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { answered, api, type Shapes } from '@/api/client'
import { useDoing } from '@/app/doing'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import { may } from '@/app/session'
import Narrow from '@/parts/Narrow.vue'
import OpenedRow from '@/parts/OpenedRow.vue'
import Refused from '@/parts/Refused.vue'
import TargetForm from '@/parts/TargetForm.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

/** What is measured: names, what they belong to, and how many probes look at each. */
type Target = Shapes['TargetShape']

const targets = useQuery({ queryKey: ['targets'], queryFn: () => answered(api.GET('/api/targets')) })
const probes = useQuery({ queryKey: ['probes'], queryFn: () => answered(api.GET('/api/probes')) })
const search = useKept<string>('find', '')
const opened = useKept<string>('target', '')
const asking = ref<number | null>(null)
const done = ref('')
const { wrong, attempt } = useDoing()

const found = computed(() => {
  const wanted = search.value.trim().toLowerCase()
  return (targets.data.value ?? []).filter((one) =>
    [one.name, one.description, one.service, one.site, ...(one.tags ?? [])].some((text) =>
      text.toLowerCase().includes(wanted),
    ),
  )
})
const measuredBy = (target: Target) => (probes.data.value ?? []).filter((one) => one.target === target.id)
usePage(
  () => 'Targets',
  () => (targets.data.value ? `${targets.data.value.length} are known` : ''),
)

const saved = async () => {
  opened.value = ''
  await targets.refetch()
}
const remove = (target: Target) =>
  attempt(async () => {
    await answered(api.DELETE('/api/targets/{target}', { params: { path: { target: target.id } } }))
    asking.value = null
    await targets.refetch()
  })
async function importFile(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  input.value = ''
  if (!file) return
  done.value = ''
  const body = await file.text()
  await attempt(async () => {
    const told = await answered(
      api.POST('/api/targets/import', {
        body,
        bodySerializer: (text) => text,
        headers: { 'Content-Type': 'text/csv' },
      }),
    )
    done.value = `${told.added.length} added, ${told.changed.length} changed, ${told.unchanged} as they were.`
    await targets.refetch()
  })
}
</script>

<template>
  <div class="mt-[11px] mb-2 flex flex-wrap items-center gap-2.5">
    <template v-if="may('edit')">
      <button v-if="opened !== 'new'" class="btn btn-main" @click="opened = 'new'">Add a target</button>
      <label class="btn relative cursor-pointer" title="columns name, description, service, site, tags, important">
        Import from CSV
        <input type="file" accept=".csv,text/csv" class="sr-only" @change="importFile" />
      </label>
    </template>
    <span class="flex-1" />
    <Narrow v-model="search" words="narrow by name, service or tag" />
  </div>
  <Refused :wrong="wrong" />
  <p v-if="done" class="mb-2 border-l-[3px] border-accent pl-[11px]" role="status">{{ done }}</p>
  <Trouble v-if="targets.isError.value" what="The targets" :error="targets.error.value" @again="targets.refetch()" />
  <Waiting v-if="targets.isPending.value" what="Reading the targets." />
  <TargetForm v-if="opened === 'new'" @saved="saved" @left="opened = ''" />
  <p v-if="targets.data.value?.length === 0 && opened !== 'new'" class="max-w-[60ch] py-6 text-ink-2">
    <b class="block text-4 text-ink">Nothing to measure is known yet.</b>
    A target is a host, an address or a name that people depend on. Add one, or import a list, and then give it a probe.
  </p>
  <div v-if="found.length" class="relative max-phone:overflow-x-auto">
    <table class="w-full border-collapse">
      <thead class="text-2 text-ink-3">
        <tr>
          <th class="border-b border-rule-strong py-[3px]">target</th>
          <th class="border-b border-rule-strong">what it is</th>
          <th class="border-b border-rule-strong">service</th>
          <th class="border-b border-rule-strong">site</th>
          <th class="border-b border-rule-strong">tags</th>
          <th class="border-b border-rule-strong">probes</th>
          <th class="border-b border-rule-strong"><span class="sr-only">what to do</span></th>
        </tr>
      </thead>
      <tbody v-for="one in found" :key="one.id">
        <tr class="leading-[28px]">
          <th class="border-b border-rule pr-3 font-mid whitespace-nowrap">
            <RouterLink :to="`/targets/${one.id}`" class="hover:underline">{{ one.name }}</RouterLink>
            <span v-if="one.is_important" class="text-2 font-normal text-accent-ink">important</span>
          </th>
          <td class="max-w-[34ch] truncate border-b border-rule pr-3 text-ink-2" :title="one.description">
            {{ one.description }}
          </td>
          <td class="border-b border-rule pr-3">{{ one.service }}</td>
          <td class="border-b border-rule pr-3">{{ one.site }}</td>
          <td class="border-b border-rule pr-3 text-2 text-ink-2">{{ (one.tags ?? []).join(', ') }}</td>
          <td class="border-b border-rule pr-3">
            <RouterLink v-if="measuredBy(one).length" class="go" :to="`/probes?find=${encodeURIComponent(one.name)}`">{{
              measuredBy(one).length
            }}</RouterLink>
            <RouterLink v-else-if="may('edit')" class="go" :to="`/probes/new?target=${one.id}`"
              >none, add one</RouterLink
            >
            <span v-else class="text-ink-3">none</span>
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
        <OpenedRow v-if="opened === String(one.id)" :columns="7">
          <TargetForm :target="one" @saved="saved" @left="opened = ''" />
        </OpenedRow>
        <OpenedRow v-if="asking === one.id" :columns="7">
          <template v-if="measuredBy(one).length">
            {{ one.name }} is measured by {{ measuredBy(one).length }} probes. Remove those first, or pause them to keep
            what was measured.
          </template>
          <template v-else>
            <p class="mb-2">{{ one.name }} is forgotten, and leaves its groups. Nothing that was measured is lost.</p>
            <button class="btn btn-grave" @click="remove(one)">Remove {{ one.name }}</button>
          </template>
          <button class="btn ml-2" @click="asking = null">Keep it</button>
        </OpenedRow>
      </tbody>
    </table>
  </div>
  <p v-if="targets.data.value?.length && found.length === 0" class="py-4 text-ink-2">
    No target is called that. <button class="go" @click="search = ''">Show all</button>
  </p>
</template>
