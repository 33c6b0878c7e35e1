<script setup lang="ts">
import { computed, reactive } from 'vue'

import { answered, api, type Shapes } from '@/api/client'
import { useDoing } from '@/app/doing'
import Field from '@/parts/Field.vue'
import Refused from '@/parts/Refused.vue'
import TagsField from '@/parts/TagsField.vue'

const props = defineProps<{ target?: Shapes['TargetShape'] }>()
const emit = defineEmits<{ saved: [id: number]; left: [] }>()
const { wrong, isBusy, attempt } = useDoing()
const draft = reactive<Shapes['NewTarget']>({
  name: props.target?.name ?? '',
  description: props.target?.description ?? '',
  tags: [...(props.target?.tags ?? [])],
  service: props.target?.service ?? '',
  site: props.target?.site ?? '',
  is_important: props.target?.is_important ?? false,
})
// Degrees as typed; both or neither.
const place = reactive({
  longitude: props.target?.position?.longitude ?? ('' as number | ''),
  latitude: props.target?.position?.latitude ?? ('' as number | ''),
})
const isPlaced = computed(() => place.longitude !== '' || place.latitude !== '')
const body = (): Shapes['NewTarget'] => ({
  ...draft,
  position: isPlaced.value ? { longitude: Number(place.longitude), latitude: Number(place.latitude) } : null,
})
const save = () =>
  attempt(async () => {
    const made = props.target
      ? await answered(
          api.PUT('/api/targets/{target}', { params: { path: { target: props.target.id } }, body: body() }),
        )
      : await answered(api.POST('/api/targets', { body: body() }))
    emit('saved', made.id)
  })
</script>

<template>
  <form
    class="max-w-[760px] pb-3"
    :aria-label="target ? `Change ${target.name}` : 'Add a target'"
    @submit.prevent="save"
  >
    <Refused :wrong="wrong && wrong.field !== 'name' ? wrong : null" />
    <div class="grid grid-cols-3 gap-x-4 gap-y-2.5 max-phone:grid-cols-1">
      <Field v-slot="{ id, isInvalid }" label="name" :error="wrong?.field === 'name' ? wrong.told : null">
        <input :id="id" v-model="draft.name" class="inp" required maxlength="80" :aria-invalid="isInvalid" />
      </Field>
      <Field v-slot="{ id }" label="service">
        <input :id="id" v-model="draft.service" class="inp" maxlength="80" placeholder="booking" />
      </Field>
      <Field v-slot="{ id }" label="site">
        <input :id="id" v-model="draft.site" class="inp" maxlength="80" placeholder="Brannick" />
      </Field>
      <Field v-slot="{ id }" label="what it is" class="col-span-2 max-phone:col-span-1">
        <input :id="id" v-model="draft.description" class="inp" maxlength="500" />
      </Field>
      <label class="flex items-end gap-2 pb-1.5"
        ><input v-model="draft.is_important" type="checkbox" /> looked at first</label
      >
      <Field v-slot="{ id }" label="longitude, degrees east">
        <input
          :id="id"
          v-model="place.longitude"
          class="inp"
          type="number"
          min="-180"
          max="180"
          step="any"
          :required="isPlaced"
        />
      </Field>
      <Field v-slot="{ id }" label="latitude, degrees north">
        <input
          :id="id"
          v-model="place.latitude"
          class="inp"
          type="number"
          min="-90"
          max="90"
          step="any"
          :required="isPlaced"
        />
      </Field>
      <TagsField v-model="draft.tags!" label="tags" class="col-span-3 max-phone:col-span-1" />
    </div>
    <div class="mt-3 flex gap-2.5">
      <button class="btn btn-main" :disabled="isBusy">{{ target ? 'Save' : 'Add it' }}</button>
      <button type="button" class="btn" @click="emit('left')">Leave it</button>
    </div>
  </form>
</template>
