<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { ArrowDownTrayIcon } from '@heroicons/vue/16/solid'
import { download } from '../format'
const props = defineProps<{ name: string; rows: object[] }>()
const forms = ['csv', 'json'] as const
function flat(): Record<string, unknown>[] {
  return props.rows.map((r) =>
    Object.fromEntries(
      Object.entries(r).map(([k, v]) => [k, v !== null && typeof v === 'object' ? JSON.stringify(v) : v]),
    ),
  )
}
const take = (f: 'csv' | 'json') =>
  download(props.name, f === 'json' ? (props.rows as Record<string, unknown>[]) : flat(), f)
</script>
<template>
  <Menu as="div" class="relative">
    <MenuButton class="btn" :disabled="!rows.length"
      ><ArrowDownTrayIcon class="size-4" />Take away</MenuButton
    >
    <MenuItems class="panel absolute right-0 z-20 mt-1 w-32 p-1 shadow-lg">
      <MenuItem v-for="f in forms" :key="f" v-slot="{ active }"
        ><button
          class="block w-full rounded px-2 py-1 text-left"
          :class="active ? 'bg-raised' : ''"
          @click="take(f)"
        >
          as {{ f.toUpperCase() }}
        </button></MenuItem
      >
    </MenuItems>
  </Menu>
</template>
