<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { answered, api, type Shapes } from '@/api/client'
import { useChosen } from '@/app/chosen'
import { useDoing } from '@/app/doing'
import { bytes } from '@/app/format'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import { may } from '@/app/session'
import ChosenBar from '@/parts/ChosenBar.vue'
import Choice from '@/parts/Choice.vue'
import Narrow from '@/parts/Narrow.vue'
import OpenedRow from '@/parts/OpenedRow.vue'
import Refused from '@/parts/Refused.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

/** What is measured how, how often and from where; many can be changed at once. */

const probes = useQuery({
  queryKey: ['probes'],
  queryFn: () => answered(api.GET('/api/probes')),
  refetchInterval: 30_000,
})
const points = useQuery({ queryKey: ['vantage points'], queryFn: () => answered(api.GET('/api/vantage-points')) })
const search = useKept<string>('find', '')
const kind = useKept<string>('kind', 'any')
const asking = ref<number | null>(null)
const every = ref<number | null>(null)
const addPoint = ref<number | null>(null)
const tag = ref('')
const { wrong, attempt } = useDoing()

const kinds = computed(() => {
  const labels = new Map((probes.data.value ?? []).map((one) => [one.kind, one.told.kind_label]))
  return [{ key: 'any', label: 'any kind' }, ...[...labels].map(([key, label]) => ({ key, label }))]
})
const found = computed(() => {
  const wanted = search.value.trim().toLowerCase()
  return (probes.data.value ?? []).filter(
    (one) =>
      (kind.value === 'any' || one.kind === kind.value) &&
      [one.name, one.told.target_name, one.told.kind_label, ...(one.tags ?? [])].some((text) =>
        text.toLowerCase().includes(wanted),
      ),
  )
})
const chosen = useChosen(found)
const { many } = chosen
usePage(
  () => 'Probes',
  () => (probes.data.value ? `${probes.data.value.length} probes` : ''),
)

const change = (ids: number[], changes: Omit<Shapes['ProbeChanges'], 'probes'>) =>
  attempt(async () => {
    await answered(api.POST('/api/probes/changes', { body: { probes: ids, ...changes } }))
    await probes.refetch()
  })
const changeMany = (changes: Omit<Shapes['ProbeChanges'], 'probes'>) =>
  change(
    many.value.map((one) => one.id),
    changes,
  )
const remove = (probe: { id: number }) =>
  attempt(async () => {
    await answered(api.DELETE('/api/probes/{probe}', { params: { path: { probe: probe.id } } }))
    asking.value = null
    await probes.refetch()
  })
function limitsOf(probe: { limits?: readonly unknown[] }): string {
  const count = probe.limits?.length ?? 0
  return count === 0 ? 'none' : `on ${count} ${count === 1 ? 'quantity' : 'quantities'}`
}
</script>

<template>
  <div class="mt-[11px] mb-2 flex flex-wrap items-center gap-2.5">
    <RouterLink v-if="may('edit')" class="btn btn-main" to="/probes/new">Add a probe</RouterLink>
    <Choice v-if="kinds.length > 2" v-model="kind" :options="kinds" label="kind of probe" is-plain class="text-2" />
    <span class="flex-1" />
    <Narrow v-model="search" words="narrow by name, target or tag" />
  </div>
  <Refused :wrong="wrong" />
  <Trouble v-if="probes.isError.value" what="The probes" :error="probes.error.value" @again="probes.refetch()" />
  <Waiting v-if="probes.isPending.value" what="Reading the probes." />
  <p v-if="probes.data.value?.length === 0" class="max-w-[60ch] py-6 text-ink-2">
    <b class="block text-4 text-ink">Nothing is measured yet.</b>
    A probe says what is measured, how often, from which vantage points, and what is expected of it.
    <RouterLink v-if="may('edit')" class="go" to="/probes/new">Add the first one</RouterLink>.
  </p>
  <ChosenBar v-if="many.length" :count="many.length" what="probes" @none="chosen.none">
    <button class="btn h-7" @click="changeMany({ is_enabled: false })">Pause</button>
    <button class="btn h-7" @click="changeMany({ is_enabled: true })">Go on</button>
    <span class="flex items-center gap-1.5"
      >every
      <input v-model.number="every" class="inp h-7 w-20" type="number" min="1" aria-label="seconds between two runs" />
      s
      <button class="btn h-7" :disabled="!every" @click="changeMany({ interval_s: every })">Set</button>
    </span>
    <span class="flex items-center gap-1.5"
      ><select v-model="addPoint" class="inp h-7 w-40 py-0" aria-label="vantage point">
        <option :value="null">vantage point …</option>
        <option v-for="one in points.data.value ?? []" :key="one.id" :value="one.id">{{ one.name }}</option>
      </select>
      <button class="btn h-7" :disabled="!addPoint" @click="changeMany({ add_vantage_points: [addPoint ?? 0] })">
        Run from it
      </button>
      <button class="btn h-7" :disabled="!addPoint" @click="changeMany({ remove_vantage_points: [addPoint ?? 0] })">
        Not from it
      </button>
    </span>
    <span class="flex items-center gap-1.5"
      ><input v-model="tag" class="inp h-7 w-28" placeholder="tag" aria-label="tag" />
      <button class="btn h-7" :disabled="!tag.trim()" @click="changeMany({ add_tags: [tag.trim()] })">Tag</button>
      <button class="btn h-7" :disabled="!tag.trim()" @click="changeMany({ remove_tags: [tag.trim()] })">
        Take it off
      </button>
    </span>
  </ChosenBar>
  <div v-if="found.length" class="relative max-phone:overflow-x-auto">
    <table class="w-full border-collapse">
      <thead class="text-2 text-ink-3">
        <tr>
          <th v-if="may('edit')" class="w-7 border-b border-rule-strong py-[3px]">
            <input type="checkbox" aria-label="Choose all" :checked="chosen.isAll.value" @change="chosen.toggleAll" />
          </th>
          <th class="border-b border-rule-strong py-[3px]">probe</th>
          <th class="border-b border-rule-strong">kind</th>
          <th class="border-b border-rule-strong">target</th>
          <th class="border-b border-rule-strong text-right">from</th>
          <th class="border-b border-rule-strong pl-4">when</th>
          <th class="border-b border-rule-strong">limits</th>
          <th class="border-b border-rule-strong text-right" title="about what each agent sends and receives for it">
            each agent, a day
          </th>
          <th class="border-b border-rule-strong"><span class="sr-only">what to do</span></th>
        </tr>
      </thead>
      <tbody v-for="one in found" :key="one.id">
        <tr class="leading-[28px]" :class="{ 'text-ink-3': !one.is_enabled }">
          <td v-if="may('edit')" class="border-b border-rule">
            <input
              type="checkbox"
              :aria-label="`Choose ${one.name}`"
              :checked="chosen.has(one.id)"
              @change="chosen.toggle(one.id)"
            />
          </td>
          <th class="border-b border-rule pr-3 font-mid">
            <RouterLink class="hover:underline" :to="`/probes/${one.id}`">{{ one.name }}</RouterLink>
            <span v-if="!one.is_enabled" class="ml-1.5 text-2 font-normal text-silent-ink">paused</span>
          </th>
          <td class="border-b border-rule pr-3 whitespace-nowrap">{{ one.told.kind_label }}</td>
          <td class="border-b border-rule pr-3 whitespace-nowrap">{{ one.told.target_name }}</td>
          <td class="border-b border-rule text-right whitespace-nowrap">
            {{ one.vantage_points?.length ?? 0 }}
            <span class="text-2 text-ink-3">{{ one.vantage_points?.length === 1 ? 'point' : 'points' }}</span>
          </td>
          <td class="max-w-[30ch] truncate border-b border-rule pr-3 pl-4" :title="one.told.schedule">
            {{ one.told.schedule }}
          </td>
          <td class="border-b border-rule pr-3 text-2 whitespace-nowrap text-ink-2">{{ limitsOf(one) }}</td>
          <td class="border-b border-rule text-right whitespace-nowrap">
            {{ Math.round(one.told.cost.runs_a_day).toLocaleString('en-GB') }}
            <span class="text-2 text-ink-3">runs, {{ bytes(one.told.cost.octets_a_day) }}</span>
          </td>
          <td class="border-b border-rule pl-3 text-right text-2 whitespace-nowrap">
            <template v-if="may('edit')">
              <RouterLink class="go mr-2.5" :to="`/probes/new?copy=${one.id}`" :aria-label="`Copy ${one.name}`"
                >Copy</RouterLink
              >
              <button
                class="go mr-2.5"
                :aria-label="`${one.is_enabled ? 'Pause' : 'Go on with'} ${one.name}`"
                @click="change([one.id], { is_enabled: !one.is_enabled })"
              >
                {{ one.is_enabled ? 'Pause' : 'Go on' }}
              </button>
              <button class="go" :aria-label="`Remove ${one.name}`" @click="asking = asking === one.id ? null : one.id">
                Remove
              </button>
            </template>
          </td>
        </tr>
        <OpenedRow v-if="asking === one.id" :columns="9">
          <p class="mb-2">
            Removing {{ one.name }} also removes everything that it has measured, and cannot be undone. Pausing keeps
            it.
          </p>
          <button class="btn btn-grave" @click="remove(one)">Remove it with its history</button>
          <button class="btn ml-2" @click="(change([one.id], { is_enabled: false }), (asking = null))">
            Pause it instead
          </button>
          <button class="btn ml-2" @click="asking = null">Keep it</button>
        </OpenedRow>
      </tbody>
    </table>
  </div>
  <p v-if="probes.data.value?.length && found.length === 0" class="py-4 text-ink-2">
    No probe is called that. <button class="go" @click="((search = ''), (kind = 'any'))">Show all</button>
  </p>
</template>
