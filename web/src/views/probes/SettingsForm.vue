<script setup lang="ts">
import { computed } from 'vue'

import type { Wrong } from '@/app/doing'
import Field from '@/parts/Field.vue'
import NumberField from '@/parts/NumberField.vue'

import PairsField from './PairsField.vue'
import { fieldsOf, initial, optionWords, partsSchema, type Schema, type SettingField, type Values } from './schema'

/** The fields of a kind's settings; the first few in sight, the rest behind one line. */
const props = defineProps<{ schema: Schema; defs: Record<string, Schema>; path: string; wrong: Wrong | null }>()
const values = defineModel<Values>({ required: true })
const SHOWN = 4

const fields = computed(() => fieldsOf(props.schema, props.defs))
const first = computed(() => {
  const plain = fields.value.filter((one) => one.kind !== 'pairs' && !one.isLong && one.name !== 'family')
  return fields.value.filter((one) => one.isNeeded || one.kind === 'parts' || plain.slice(0, SHOWN).includes(one))
})
const rest = computed(() => fields.value.filter((one) => !first.value.includes(one)))
const groups = computed(() => [
  { key: 'first', fields: first.value },
  { key: 'rest', fields: rest.value },
])
const isWrongInRest = computed(() => rest.value.some((one) => told(one) !== null))

/** A choice whose words are cut off in half the width. */
function isWide(field: SettingField): boolean {
  return field.schema.enum?.some((one) => one.length > 18) ?? false
}
function set(field: SettingField, value: unknown): void {
  values.value = { ...values.value, [field.name]: value }
}
function told(field: SettingField): string | null {
  const where = `${props.path}.${field.name}`
  const is = props.wrong?.field === where || props.wrong?.field.startsWith(`${where}.`)
  return is && field.kind !== 'parts' ? (props.wrong?.told ?? null) : null
}
function parts(field: SettingField): Values[] {
  return (values.value[field.name] as Values[] | undefined) ?? []
}
function setPart(field: SettingField, index: number, value: Values): void {
  set(
    field,
    parts(field).map((one, at) => (at === index ? value : one)),
  )
}
function add(field: SettingField): void {
  set(field, [...parts(field), initial(partsSchema(field, props.defs), props.defs)])
}
function move(field: SettingField, index: number, by: number): void {
  const moved = [...parts(field)]
  const [one] = moved.splice(index, 1)
  if (one) moved.splice(index + by, 0, one)
  set(field, moved)
}
const ONE: Record<string, string> = { steps: 'step', expect: 'expectation', take: 'variable' }
</script>

<template>
  <template v-for="group in groups" :key="group.key">
    <component
      :is="group.key === 'rest' ? 'details' : 'div'"
      v-if="group.fields.length"
      :open="isWrongInRest || undefined"
      class="group"
    >
      <summary v-if="group.key === 'rest'" class="go mt-2 w-fit cursor-pointer text-2">
        {{ group.fields.length }} more {{ group.fields.length === 1 ? 'setting' : 'settings' }}
      </summary>
      <div class="mt-1.5 grid grid-cols-2 gap-x-3 gap-y-2 max-phone:grid-cols-1">
        <template v-for="field in group.fields" :key="field.name">
          <fieldset v-if="field.kind === 'parts'" class="col-span-2 min-w-0 max-phone:col-span-1">
            <legend class="text-2 text-ink-2">{{ field.label }}</legend>
            <div
              v-for="(part, index) in parts(field)"
              :key="index"
              class="mb-2 border-l-2 border-rule-strong pl-3"
              role="group"
              :aria-label="`${ONE[field.name] ?? field.label} ${index + 1}`"
            >
              <p class="flex items-baseline gap-2 text-2">
                <b>{{ ONE[field.name] ?? field.label }} {{ index + 1 }}</b>
                <span class="flex-1" />
                <button v-if="index > 0" type="button" class="go" @click="move(field, index, -1)">earlier</button>
                <button
                  type="button"
                  class="go"
                  @click="
                    set(
                      field,
                      parts(field).filter((_, at) => at !== index),
                    )
                  "
                >
                  remove
                </button>
              </p>
              <SettingsForm
                :model-value="part"
                :schema="partsSchema(field, defs)"
                :defs="defs"
                :path="`${path}.${field.name}.${index}`"
                :wrong="wrong"
                @update:model-value="setPart(field, index, $event)"
              />
            </div>
            <button type="button" class="btn h-6" @click="add(field)">
              Add {{ ONE[field.name] === 'expectation' ? 'an' : 'a' }} {{ ONE[field.name] ?? field.label }}
            </button>
          </fieldset>
          <label v-else-if="field.kind === 'yes'" class="flex min-h-7 items-end gap-2 pb-1" :title="field.title">
            <input
              type="checkbox"
              :checked="Boolean(values[field.name])"
              @change="set(field, ($event.target as HTMLInputElement).checked)"
            />
            {{ field.label }}
          </label>
          <PairsField
            v-else-if="field.kind === 'pairs'"
            class="col-span-2 max-phone:col-span-1"
            :label="field.label"
            :title="field.title"
            :error="told(field)"
            :model-value="(values[field.name] as Record<string, string> | undefined) ?? {}"
            @update:model-value="set(field, $event)"
          />
          <Field
            v-else
            v-slot="{ id, isInvalid, describedBy }"
            :label="field.label"
            :title="field.title"
            :error="told(field)"
            :hint="field.isNeeded ? field.title : undefined"
            :class="field.isNeeded || field.isLong || isWide(field) ? 'col-span-2 max-phone:col-span-1' : ''"
          >
            <select
              v-if="field.kind === 'choice'"
              :id="id"
              class="inp py-0"
              :value="values[field.name]"
              @change="set(field, ($event.target as HTMLSelectElement).value)"
            >
              <option v-for="one in field.schema.enum" :key="one" :value="one">{{ optionWords(one) }}</option>
            </select>
            <NumberField
              v-else-if="field.kind === 'number'"
              :id="id"
              :model-value="(values[field.name] as number | null | undefined) ?? null"
              :unit="field.unit"
              :min="field.schema.minimum"
              :max="field.schema.maximum"
              :is-needed="!field.isNullable"
              :placeholder="field.isNullable ? 'not given' : ''"
              :is-invalid="isInvalid"
              :described-by="describedBy"
              @update:model-value="set(field, $event)"
            />
            <input
              v-else-if="field.kind === 'words'"
              :id="id"
              class="inp"
              placeholder="with commas between"
              :aria-invalid="isInvalid"
              :value="((values[field.name] as string[] | undefined) ?? []).join(', ')"
              @change="
                set(
                  field,
                  ($event.target as HTMLInputElement).value
                    .split(',')
                    .map((one) => one.trim())
                    .filter(Boolean),
                )
              "
            />
            <textarea
              v-else-if="field.isLong"
              :id="id"
              class="inp h-16 py-1 font-mono text-[12px]"
              :aria-invalid="isInvalid"
              :value="String(values[field.name] ?? '')"
              @change="set(field, ($event.target as HTMLTextAreaElement).value || (field.isNullable ? null : ''))"
            />
            <input
              v-else
              :id="id"
              class="inp"
              :type="field.isSecret ? 'password' : 'text'"
              :autocomplete="field.isSecret ? 'new-password' : 'off'"
              :required="field.isNeeded"
              :maxlength="field.schema.maxLength"
              :placeholder="field.isNullable ? 'none' : ''"
              :aria-invalid="isInvalid"
              :aria-describedby="describedBy"
              :value="String(values[field.name] ?? '')"
              @input="set(field, ($event.target as HTMLInputElement).value || (field.isNullable ? null : ''))"
            />
          </Field>
        </template>
      </div>
    </component>
  </template>
</template>
