<script setup lang="ts" generic="T extends object">
// A table of records: sorted by a click on a heading, filtered by what is typed above it
// (both stand in the address), drawn as virtual rows where there are many, and taken away
// as CSV or JSON. A cell is drawn by the slot of its column, or shows the column's value.
import { ChevronDownIcon, ChevronUpIcon } from '@heroicons/vue/16/solid'
import { computed, useTemplateRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Term as Word } from '../terms'
import Empty from './Empty.vue'
import Term from './Term.vue'
import { useWindow } from './window'

export interface Column<T> {
  key: string
  title: string
  num?: boolean // right-aligned
  class?: string // of its cells
  term?: Word // what the title means
  wide?: boolean // left out in a narrow window: it stands elsewhere too
  value?: (row: T) => string | number | undefined // what it is sorted and shown by
}

const props = defineProps<{
  columns: Column<T>[]
  rows: T[]
  id: (row: T) => string | number
  empty: string
  filter?: string // what the rows were filtered by, if anything
  fixed?: boolean // in the order in which they came: there are more than these
  scroll?: string // the height at which it scrolls by itself; else it is as long as it is
}>()

const narrow = 'max-[1199px]:hidden'
const route = useRoute()
const router = useRouter()

const by = computed(() => String(route.query.sort ?? ''))
const down = computed(() => by.value.startsWith('-'))
const column = computed(() => props.columns.find((c) => c.key === by.value.replace(/^-/, '')))
function sort(c: Column<T>) {
  const now = by.value === c.key ? '-' + c.key : by.value === '-' + c.key ? undefined : c.key
  router.replace({ query: { ...route.query, sort: now } })
}
const sorted = computed(() => {
  const c = column.value
  if (!c?.value || props.fixed) return props.rows
  const of = c.value
  const way = down.value ? -1 : 1
  return [...props.rows].sort((a, b) => {
    const [x, y] = [of(a), of(b)]
    if (typeof x === 'number' && typeof y === 'number') return way * (x - y)
    return way * String(x ?? '').localeCompare(String(y ?? ''), undefined, { numeric: true })
  })
})

const box = useTemplateRef<HTMLElement>('box')
const { virtual, shown, before, after } = useWindow(sorted, box)
const height = computed(() => props.scroll ?? (virtual.value ? 'calc(100vh - 190px)' : undefined))
</script>
<template>
  <div
    ref="box"
    class="panel"
    :class="height ? 'overflow-auto' : 'overflow-x-auto'"
    :style="{ maxHeight: height }"
  >
    <table v-if="rows.length" class="grid-table">
      <thead>
        <tr>
          <th
            v-for="c in columns"
            :key="c.key"
            :class="[{ num: c.num }, c.wide && narrow]"
            :aria-sort="column?.key === c.key ? (down ? 'descending' : 'ascending') : undefined"
          >
            <button
              v-if="c.value && !fixed"
              class="inline-flex items-center gap-0.5 font-[inherit]"
              @click="sort(c)"
            >
              {{ c.title
              }}<component
                :is="down ? ChevronDownIcon : ChevronUpIcon"
                v-if="column?.key === c.key"
                class="size-3.5"
              />
            </button>
            <template v-else>{{ c.title }}</template><Term v-if="c.term" :of="c.term" :word="c.title" />
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-if="before" aria-hidden="true">
          <td :style="{ height: before + 'px', padding: 0 }" />
        </tr>
        <tr v-for="row in shown" :key="id(row)">
          <td v-for="c in columns" :key="c.key" :class="[c.class, { num: c.num }, c.wide && narrow]">
            <slot :name="c.key" :row="row">{{ c.value?.(row) ?? '–' }}</slot>
          </td>
        </tr>
        <tr v-if="after" aria-hidden="true">
          <td :style="{ height: after + 'px', padding: 0 }" />
        </tr>
      </tbody>
    </table>
    <Empty v-else>{{ filter ? 'No rows match the filter.' : empty }}</Empty>
  </div>
</template>
