<script setup lang="ts">
// One search over pages and all that the service finds by name.
import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Dialog,
  DialogPanel,
} from '@headlessui/vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { get, type Found } from '../api'
import { count } from '../format'
import { rooms } from '../rooms'

const open = defineModel<boolean>({ required: true })
const router = useRouter()
const text = ref('')
const asked = ref('') // what the service is asked: not every key
let pending = 0
watch(text, (t) => {
  clearTimeout(pending)
  pending = window.setTimeout(() => (asked.value = t.trim()), 150)
})
const q = useQuery({
  queryKey: ['search', asked],
  enabled: computed(() => open.value && !!asked.value),
  queryFn: (): Promise<Found> => get<Found>('/search?q=' + encodeURIComponent(asked.value)),
  placeholderData: keepPreviousData,
})
type Hit = Found['hits'][number]
const found = computed<Hit[]>(() => {
  const t = text.value.trim().toLowerCase()
  const pages = rooms
    .filter((r) => !t || r.text.toLowerCase().includes(t))
    .map((r) => ({ kind: 'page', name: r.text, to: r.to }))
  return t ? [...(q.data.value?.hits ?? []), ...pages] : pages
})
const unread = computed(() => (asked.value ? (q.data.value?.unread ?? 0) : 0))
function go(x: Hit | null) {
  if (!x) return
  open.value = false
  text.value = ''
  router.push(x.to)
}
</script>
<template>
  <Dialog aria-label="Search" :open="open" class="relative z-50" @close="open = false">
    <div class="fixed inset-0 bg-black/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center pt-[12vh]">
      <DialogPanel class="panel w-full max-w-2xl overflow-hidden shadow-xl">
        <Combobox nullable @update:model-value="go">
          <ComboboxInput
            class="h-11 w-full bg-transparent px-4 text-[15px] outline-none"
            placeholder="A page, a source, a key or its fingerprint, an edition, a group, a package …"
            aria-label="Search"
            @change="text = $event.target.value"
          />
          <ComboboxOptions static class="max-h-[60vh] overflow-auto border-t border-line p-1">
            <ComboboxOption v-for="x in found" :key="x.kind + x.to + x.name" v-slot="{ active }" :value="x"
              ><div
                class="flex cursor-pointer items-baseline gap-3 rounded px-3 py-1.5"
                :class="active ? 'bg-tide-soft' : ''"
              >
                <span class="w-20 shrink-0 text-slate">{{ x.kind }}</span><span class="shrink-0">{{
                  x.name
                }}</span
                ><span class="ml-auto min-w-0 truncate text-slate">{{ x.text }}</span>
              </div></ComboboxOption
            >
            <p v-if="!found.length" class="px-3 py-2 text-slate">
              {{ q.isFetching.value ? 'Searching …' : 'Nothing found.' }}
            </p>
          </ComboboxOptions>
        </Combobox>
        <p v-if="unread" class="border-t border-line px-4 py-2 text-slate">
          {{ count(unread, 'source or edition was', 'sources and editions were') }} not searched. The page
          Packages says which.
        </p>
      </DialogPanel>
    </div>
  </Dialog>
</template>
