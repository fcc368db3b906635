<script setup lang="ts">
// Takes a table away as a file. Where the page shows a part of it, the service streams all that
// the filter leaves: path is then its call, and rows are what is shown.
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { ArrowDownTrayIcon } from '@heroicons/vue/16/solid'
import { download } from '../format'
const props = defineProps<{ name: string; rows: object[]; path?: string }>()
const forms = ['csv', 'json'] as const
function flat(): Record<string, unknown>[] {
  return props.rows.map((r) =>
    Object.fromEntries(
      Object.entries(r).map(([k, v]) => [k, v !== null && typeof v === 'object' ? JSON.stringify(v) : v]),
    ),
  )
}
function take(f: 'csv' | 'json') {
  if (!props.path)
    return download(props.name, f === 'json' ? (props.rows as Record<string, unknown>[]) : flat(), f)
  const a = document.createElement('a')
  a.href = '/api/v1' + props.path + (props.path.includes('?') ? '&' : '?') + 'as=' + f
  a.download = props.name + '.' + f
  a.click()
}
</script>
<template>
  <Menu as="div" class="relative">
    <MenuButton class="btn" :disabled="!rows.length"><ArrowDownTrayIcon class="size-4" />Download</MenuButton>
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
