<script setup lang="ts">
import { computed } from 'vue'

import type { Wrong } from '@/app/doing'
import Choice from '@/parts/Choice.vue'
import Field from '@/parts/Field.vue'
import NumberField from '@/parts/NumberField.vue'

import type { Schedule } from './draft'

/** When a probe runs. */
const schedule = defineModel<Schedule>('schedule', { required: true })
const interval = defineModel<number>('interval', { required: true })
const props = defineProps<{ wrong: Wrong | null }>()
const WAYS = [
  { key: 'every', label: 'every', title: 'evenly, from a start that differs from agent to agent (RFC 3432)' },
  { key: 'poisson', label: 'at random', title: 'at random times, so that nothing periodic hides (RFC 2330)' },
  { key: 'daily', label: 'once a day', title: 'at a time of day, spread over the agents' },
  { key: 'cron', label: 'by a crontab line', title: 'minute, hour, day, month, day of the week' },
] as const
const seconds = computed({ get: () => interval.value, set: (value: number | null) => (interval.value = value ?? 60) })
const OWN_ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone

function set(changed: Partial<Schedule>): void {
  schedule.value = { ...schedule.value, ...changed }
}
function told(field: string): string | null {
  const is =
    props.wrong?.field === `schedule.${field}` || (field === 'interval_s' && props.wrong?.field === 'interval_s')
  return is ? (props.wrong?.told ?? null) : null
}
function setQuiet(index: number, part: 0 | 1, text: string): void {
  const quiet = schedule.value.quiet.map((pair, at): [string, string] => {
    const [start, end] = pair
    return at === index ? (part === 0 ? [text, end] : [start, text]) : [start, end]
  })
  set({ quiet })
}
</script>

<template>
  <div>
    <Choice
      :model-value="schedule.way"
      :options="WAYS"
      label="when it runs"
      is-plain
      @update:model-value="set({ way: $event })"
    />
    <div class="mt-1.5 grid grid-cols-2 gap-x-3 gap-y-2 max-phone:grid-cols-1">
      <Field
        v-if="schedule.way === 'every' || schedule.way === 'poisson'"
        v-slot="{ id, isInvalid }"
        :label="schedule.way === 'every' ? 'time between two runs' : 'mean time between two runs'"
        :error="told('interval_s')"
      >
        <NumberField :id="id" v-model="seconds" unit="s" :min="1" :is-invalid="isInvalid" />
      </Field>
      <template v-else>
        <Field v-if="schedule.way === 'daily'" v-slot="{ id, isInvalid }" label="at" :error="told('at')">
          <input
            :id="id"
            class="inp"
            type="time"
            :value="schedule.at"
            :aria-invalid="isInvalid"
            @change="set({ at: ($event.target as HTMLInputElement).value })"
          />
        </Field>
        <Field
          v-else
          v-slot="{ id, isInvalid }"
          label="crontab line"
          hint="minute hour day month weekday"
          :error="told('cron')"
        >
          <input
            :id="id"
            class="inp font-mono text-[12px]"
            placeholder="*/15 6-18 * * 1-5"
            :value="schedule.cron"
            :aria-invalid="isInvalid"
            @change="set({ cron: ($event.target as HTMLInputElement).value })"
          />
        </Field>
        <Field v-slot="{ id }" label="spread over" :error="told('spread_s')">
          <NumberField
            :id="id"
            :model-value="schedule.spread_s"
            unit="s"
            :min="0"
            @update:model-value="set({ spread_s: $event ?? 0 })"
          />
        </Field>
      </template>
    </div>
    <details class="mt-2" :open="schedule.quiet.length > 0 || schedule.burst_for_s > 0 || undefined">
      <summary class="go w-fit cursor-pointer text-2">quiet hours, faster after a failure, time zone</summary>
      <div class="mt-1.5 grid grid-cols-2 gap-x-3 gap-y-2 max-phone:grid-cols-1">
        <Field v-slot="{ id }" label="after a failure, every" :error="told('burst_interval_s')">
          <NumberField
            :id="id"
            :model-value="schedule.burst_interval_s"
            unit="s"
            :min="0"
            @update:model-value="set({ burst_interval_s: $event ?? 0 })"
          />
        </Field>
        <Field v-slot="{ id }" label="for" :error="told('burst_for_s')">
          <NumberField
            :id="id"
            :model-value="schedule.burst_for_s"
            unit="s"
            :min="0"
            @update:model-value="set({ burst_for_s: $event ?? 0 })"
          />
        </Field>
        <Field v-slot="{ id }" label="times of day are of" :error="told('zone')">
          <input
            :id="id"
            class="inp"
            :value="schedule.zone"
            list="zones"
            @change="set({ zone: ($event.target as HTMLInputElement).value })"
          />
          <datalist id="zones">
            <option>UTC</option>
            <option>{{ OWN_ZONE }}</option>
          </datalist>
        </Field>
        <div>
          <span class="mb-0.5 block text-2 text-ink-2">nothing is run</span>
          <p v-for="(pair, index) in schedule.quiet" :key="index" class="mb-1 flex items-center gap-1.5 text-2">
            from
            <input
              class="inp h-7 w-24"
              type="time"
              :value="pair[0]"
              :aria-label="`quiet from, ${index + 1}`"
              @change="setQuiet(index, 0, ($event.target as HTMLInputElement).value)"
            />
            to
            <input
              class="inp h-7 w-24"
              type="time"
              :value="pair[1]"
              :aria-label="`quiet until, ${index + 1}`"
              @change="setQuiet(index, 1, ($event.target as HTMLInputElement).value)"
            />
            <button type="button" class="go" @click="set({ quiet: schedule.quiet.filter((_, at) => at !== index) })">
              remove
            </button>
          </p>
          <button type="button" class="go text-2" @click="set({ quiet: [...schedule.quiet, ['22:00', '05:00']] })">
            add quiet hours
          </button>
          <p v-if="told('quiet')" class="text-2 text-breached-ink" role="alert">{{ told('quiet') }}</p>
        </div>
      </div>
    </details>
  </div>
</template>
