<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { answered, api, HubProblem, type Shapes } from '@/api/client'
import { useDoing } from '@/app/doing'
import { bytes, clock, ms } from '@/app/format'
import { usePage } from '@/app/page'
import { may } from '@/app/session'
import Choice from '@/parts/Choice.vue'
import Field from '@/parts/Field.vue'
import Refused from '@/parts/Refused.vue'
import TagsField from '@/parts/TagsField.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'
import TargetForm from '@/parts/TargetForm.vue'

import { aimOf, bodyOf, fresh, opened, schemaOf, VERBS, type Draft, type Probe } from './draft'
import LimitsTable from './LimitsTable.vue'
import PointsField from './PointsField.vue'
import ScheduleFields from './ScheduleFields.vue'
import SettingsForm from './SettingsForm.vue'
import TrialResults from './TrialResults.vue'

/** One probe: the sentence at the top says it, the fields below are its parts, and it can be tried before it is saved. */
const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const id = computed(() => (typeof route.params.probe === 'string' ? Number(route.params.probe) : null))
const copied = computed(() => (typeof route.query.copy === 'string' ? Number(route.query.copy) : null))
const source = computed(() => id.value ?? copied.value)

const kinds = useQuery({
  queryKey: ['kinds'],
  queryFn: () => answered(api.GET('/api/probe-kinds')),
  staleTime: Infinity,
})
const targets = useQuery({ queryKey: ['targets'], queryFn: () => answered(api.GET('/api/targets')) })
const points = useQuery({ queryKey: ['vantage points'], queryFn: () => answered(api.GET('/api/vantage-points')) })
const stored = useQuery({
  queryKey: ['probe', source],
  queryFn: () => answered(api.GET('/api/probes/{probe}', { params: { path: { probe: source.value ?? 0 } } })),
  enabled: computed(() => source.value !== null),
})

const draft = ref<Draft | null>(null)
const kind = computed(() => (kinds.data.value ?? []).find((one) => one.name === draft.value?.kind))
const parts = computed(() => (kind.value ? schemaOf(kind.value) : null))
watch(
  [() => kinds.data.value, () => stored.data.value],
  ([known, probe]) => {
    if (draft.value || !known) return
    if (source.value !== null) {
      if (!probe) return
      draft.value = opened(probe as Probe)
      if (copied.value !== null) draft.value.name = `${probe.name}, copy`
      return
    }
    const wanted = known.find((one) => one.name === route.query.kind) ?? known.find((one) => one.name === 'http')
    if (!wanted) return
    draft.value = fresh(wanted)
    if (typeof route.query.target === 'string') draft.value.target = Number(route.query.target)
    if (typeof route.query.from === 'string') draft.value.vantage_points = [Number(route.query.from)]
  },
  { immediate: true },
)
usePage(
  () => (id.value === null ? 'New probe' : (stored.data.value?.name ?? 'Probe')),
  () => (id.value === null ? 'not saved yet' : (stored.data.value?.told.kind_label ?? '')),
)

const kindChoices = computed(() =>
  (kinds.data.value ?? []).map((one) => ({ key: one.name, label: one.label, title: one.about })),
)
const chosenKind = computed({
  get: () => draft.value?.kind ?? '',
  set: (name) => {
    const wanted = kinds.data.value?.find((one) => one.name === name)
    if (!wanted || !draft.value || name === draft.value.kind) return
    const { name: called, target, vantage_points, tags, settings } = draft.value
    const next = fresh(wanted)
    // What the new kind also has goes along: the host stays the host.
    for (const key of ['host', 'url', 'family']) {
      if (settings[key] && key in next.settings) next.settings[key] = settings[key]
    }
    draft.value = { ...next, name: called, target, vantage_points, tags }
    trial.value = null
  },
})
const isAddingTarget = ref(false)
async function added(target: number): Promise<void> {
  isAddingTarget.value = false
  await targets.refetch()
  if (draft.value) draft.value.target = target
}

/* What it would cost, whenever it can be said. */
const plan = ref<Shapes['PlanShape'] | null>(null)
const asked = computed(() =>
  draft.value
    ? JSON.stringify([
        draft.value.kind,
        draft.value.settings,
        draft.value.interval_s,
        draft.value.schedule,
        draft.value.vantage_points,
      ])
    : '',
)
let timer = 0
watch(asked, (_now, before) => {
  if (!before) {
    void estimate()
    return
  }
  clearTimeout(timer)
  timer = window.setTimeout(() => void estimate(), 300)
})
async function estimate(): Promise<void> {
  const now = draft.value
  if (!now || !(now.interval_s >= 1)) return
  try {
    plan.value = await answered(
      api.POST('/api/probes/plan', {
        body: {
          kind: now.kind,
          settings: now.settings,
          interval_s: now.interval_s,
          schedule: now.schedule,
          vantage_points: now.vantage_points,
          probe: source.value,
        },
      }),
    )
  } catch (error) {
    if (!(error instanceof HubProblem)) throw error
    plan.value = null
  }
}
const sentence = computed(() => {
  const now = draft.value
  if (!now) return null
  const from = now.vantage_points.map((one) => points.data.value?.find((point) => point.id === one)?.name ?? '')
  const told = from.length > 3 ? `${from.length} vantage points` : from.join(', ').replace(/, ([^,]*)$/, ' and $1')
  const when = plan.value?.schedule ?? 'when it suits'
  return {
    when: when.charAt(0).toUpperCase() + when.slice(1),
    from: told,
    verb: VERBS[now.kind] ?? 'measure',
    aim: aimOf(now),
  }
})

/* Trying saves nothing. */
const trial = ref<Shapes['TrialShape'] | null>(null)
const trying = useDoing()
const tryable = computed(() => draft.value?.vantage_points.length ?? 0)
async function tryIt(): Promise<void> {
  const now = draft.value
  if (!now) return
  await trying.attempt(async () => {
    trial.value = await answered(
      api.POST('/api/trials', {
        body: {
          kind: now.kind,
          settings: now.settings,
          vantage_points: now.vantage_points.slice(0, 20),
          binding: { interface: now.interface || null, source: now.source || null },
          probe: source.value,
        },
      }),
    )
    const own = trial.value.trial
    while (trial.value?.trial === own && !trial.value.is_done) {
      await new Promise((resolve) => setTimeout(resolve, 400))
      trial.value = await answered(api.GET('/api/trials/{trial}', { params: { path: { trial: own } } }))
    }
  })
}

const saving = useDoing()
const wrong = computed(() => saving.wrong.value ?? trying.wrong.value)
const OWN_FIELDS = ['name', 'target', 'limits', 'schedule', 'interval_s', 'settings']
const elsewhere = computed(() =>
  wrong.value && !OWN_FIELDS.some((one) => wrong.value?.field.startsWith(one)) ? wrong.value : null,
)
const isSettingsWrong = computed(() => wrong.value?.field.startsWith('settings') ?? false)
async function save(isEnabled: boolean): Promise<void> {
  const now = draft.value
  if (!now) return
  const went = await saving.attempt(async () => {
    const body = bodyOf(now, isEnabled)
    if (id.value === null) await answered(api.POST('/api/probes', { body }))
    else await answered(api.PUT('/api/probes/{probe}', { params: { path: { probe: id.value } }, body }))
    await client.invalidateQueries({ queryKey: ['probes'] })
    await client.invalidateQueries({ queryKey: ['streams'] })
    await client.invalidateQueries({ queryKey: ['probe'] })
  })
  if (went) await router.push(`/probes?find=${encodeURIComponent(now.name.trim())}`)
}
</script>

<template>
  <Trouble v-if="kinds.isError.value" what="The kinds of probe" :error="kinds.error.value" @again="kinds.refetch()" />
  <Trouble v-if="stored.isError.value" what="This probe" :error="stored.error.value" @again="stored.refetch()" />
  <Waiting v-if="!draft" what="Reading what can be measured." />
  <form v-if="draft && kind && parts" aria-label="Probe" @submit.prevent="save(true)">
    <p v-if="sentence" class="my-3 max-w-[95ch] text-[17px] leading-[1.5] text-pretty">
      <b class="font-mid text-accent-ink">{{ sentence.when }}</b>, from
      <b class="font-mid text-accent-ink">{{ sentence.from || 'nowhere yet' }}</b>, {{ sentence.verb }}
      <b v-if="kind.name !== 'host'" class="font-mid text-accent-ink">{{ sentence.aim || 'a target' }}</b>.
    </p>
    <Refused :wrong="elsewhere" />
    <div class="grid grid-cols-[minmax(0,430px)_minmax(0,1fr)] gap-x-9 max-[1000px]:block">
      <div>
        <section class="row">
          <h2>What</h2>
          <div class="min-w-0">
            <Choice
              v-if="id === null"
              v-model="chosenKind"
              :options="kindChoices"
              label="kind of probe"
              is-plain
              class="!flex gap-y-0.5"
            />
            <p v-else class="font-mid">{{ kind.label }}</p>
            <div class="mt-2 grid grid-cols-2 gap-x-3 gap-y-2 max-phone:grid-cols-1">
              <Field
                v-slot="{ id: field, isInvalid }"
                label="call it"
                :error="wrong?.field === 'name' ? wrong.told : null"
              >
                <input :id="field" v-model="draft.name" class="inp" required maxlength="80" :aria-invalid="isInvalid" />
              </Field>
              <Field
                v-slot="{ id: field, isInvalid }"
                label="target"
                :error="wrong?.field === 'target' ? wrong.told : null"
              >
                <select :id="field" v-model="draft.target" class="inp py-0" required :aria-invalid="isInvalid">
                  <option :value="null" disabled>choose one</option>
                  <option v-for="one in targets.data.value ?? []" :key="one.id" :value="one.id">{{ one.name }}</option>
                </select>
              </Field>
            </div>
            <button type="button" class="go mt-1 text-2" @click="isAddingTarget = !isAddingTarget">
              {{ isAddingTarget ? 'no new target' : 'a new target' }}
            </button>
          </div>
        </section>
        <section class="row">
          <h2>How</h2>
          <div class="min-w-0">
            <p v-if="isSettingsWrong" class="mb-1 text-2 text-breached-ink" role="alert">{{ wrong?.told }}</p>
            <SettingsForm
              :key="kind.name"
              v-model="draft.settings"
              :schema="parts.schema"
              :defs="parts.defs"
              path="settings"
              :wrong="wrong"
            />
            <details class="mt-2" :open="Boolean(draft.interface || draft.source) || undefined">
              <summary class="go w-fit cursor-pointer text-2">through which uplink</summary>
              <div class="mt-1.5 grid grid-cols-2 gap-x-3">
                <Field v-slot="{ id: field }" label="interface">
                  <input :id="field" v-model="draft.interface" class="inp" maxlength="15" placeholder="any" />
                </Field>
                <Field v-slot="{ id: field }" label="source address">
                  <input :id="field" v-model="draft.source" class="inp" maxlength="45" placeholder="any" />
                </Field>
              </div>
            </details>
          </div>
        </section>
        <section class="row">
          <h2>From</h2>
          <PointsField v-model="draft.vantage_points" :points="points.data.value ?? []" />
        </section>
        <section class="row">
          <h2>When</h2>
          <div class="min-w-0">
            <ScheduleFields v-model:schedule="draft.schedule" v-model:interval="draft.interval_s" :wrong="wrong" />
            <p v-if="plan && !plan.wrong" class="mt-2 text-2 text-ink-2">
              Each agent: {{ Math.round(plan.each.runs_a_day).toLocaleString('en-GB') }} runs and about
              {{ bytes(plan.each.octets_a_day) }} a day<template v-if="draft.vantage_points.length > 1"
                >; all {{ draft.vantage_points.length }}:
                {{ Math.round(plan.runs_a_day).toLocaleString('en-GB') }} runs, {{ bytes(plan.octets_a_day) }}</template
              >. Next at {{ plan.next_runs.map((one) => clock(ms(one), true)).join(', ') }}.
            </p>
          </div>
        </section>
        <section class="row">
          <h2>Expect</h2>
          <div class="min-w-0">
            <LimitsTable v-model="draft.limits" :kind="kind" :wrong="wrong" />
            <p class="mt-2 flex flex-wrap items-center gap-1.5 text-2">
              It counts when
              <input v-model.number="draft.judgement.n" class="inp h-7 w-14" type="number" min="1" aria-label="n" /> of
              the last
              <input
                v-model.number="draft.judgement.m"
                class="inp h-7 w-14"
                type="number"
                min="1"
                max="20"
                aria-label="m"
              />
              runs are beyond, each tried at most
              <input
                v-model.number="draft.attempts"
                class="inp h-7 w-14"
                type="number"
                min="1"
                max="5"
                aria-label="tries"
              />
              times.
            </p>
            <TagsField v-model="draft.tags" class="mt-2" label="tags" />
          </div>
        </section>
      </div>
      <div>
        <p class="max-w-[75ch] border-t border-rule-strong pt-2.5 text-2 leading-[1.5] text-ink-2">{{ kind.about }}</p>
        <TargetForm
          v-if="isAddingTarget"
          class="mt-3 border-t border-rule pt-2"
          @saved="added"
          @left="isAddingTarget = false"
        />
        <div v-if="may('edit')" class="mt-4 flex items-baseline gap-3 border-b border-rule-strong pb-1.5">
          <h2 class="heading">Try it now</h2>
          <span class="flex-1" />
          <button type="button" class="btn h-7" :disabled="!tryable || trying.isBusy.value" @click="tryIt">
            {{ trying.isBusy.value ? 'Trying …' : trial ? 'Try again' : 'Try it' }}
          </button>
        </div>
        <p v-if="!tryable" class="py-2 text-ink-2">
          Choose a vantage point on the left, and see here what it would measure.
        </p>
        <p v-else-if="!trial" class="py-2 text-ink-2">
          Runs it once from
          {{ tryable === 1 ? 'the chosen vantage point' : `the ${tryable} chosen vantage points` }} and shows everything
          that comes of it.
        </p>
        <TrialResults v-if="trial" :trial="trial" />
      </div>
    </div>
    <div v-if="may('edit')" class="sticky bottom-0 mt-4 flex flex-wrap gap-2.5 border-t border-rule bg-ground py-3">
      <button class="btn btn-main" :disabled="saving.isBusy.value">
        {{ id === null ? 'Start measuring' : 'Save, and measure so' }}
      </button>
      <button type="button" class="btn" :disabled="saving.isBusy.value" @click="save(false)">
        {{ id === null ? 'Save, do not start' : 'Save, and pause it' }}
      </button>
      <span class="flex-1" />
      <RouterLink class="btn" to="/probes">Discard</RouterLink>
    </div>
  </form>
</template>

<style scoped>
.row {
  display: grid;
  grid-template-columns: 64px minmax(0, 1fr);
  gap: 12px;
  padding: 10px 0 12px;
  border-top: 1px solid var(--rule);
}
.row:first-child {
  border-top-color: var(--rule-strong);
}
.row h2 {
  font-weight: 650;
}
</style>
