<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { useRouter } from 'vue-router'

import { person, signOut } from './session'

/** Who is signed in, and what that person may do with the own session. */
const router = useRouter()
async function leave(everywhere: boolean): Promise<void> {
  await signOut(everywhere)
  void router.push('/sign-in')
}
</script>

<template>
  <Menu v-if="person" as="div" class="relative min-w-0">
    <MenuButton class="min-h-6 max-w-full truncate text-left" :title="`signed in as ${person.name}, ${person.role}`">{{
      person.full_name
    }}</MenuButton>
    <MenuItems class="lifted absolute bottom-7 left-0 z-20 w-44 py-1 text-2">
      <p class="px-3 py-1 text-ink-3">{{ person.name }}, {{ person.role }}</p>
      <MenuItem v-slot="{ active }">
        <RouterLink class="block px-3 leading-[26px]" :class="{ 'bg-accent-wash': active }" to="/password"
          >Change the password</RouterLink
        >
      </MenuItem>
      <MenuItem v-slot="{ active }">
        <button
          class="block w-full px-3 text-left leading-[26px]"
          :class="{ 'bg-accent-wash': active }"
          @click="leave(false)"
        >
          Sign out
        </button>
      </MenuItem>
      <MenuItem v-slot="{ active }">
        <button
          class="block w-full px-3 text-left leading-[26px]"
          :class="{ 'bg-accent-wash': active }"
          @click="leave(true)"
        >
          Sign out everywhere
        </button>
      </MenuItem>
    </MenuItems>
  </Menu>
</template>
