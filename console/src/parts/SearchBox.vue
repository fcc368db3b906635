<script setup lang="ts">
import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Dialog,
  DialogPanel,
} from '@headlessui/vue'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { get, type Edition, type Key, type Mirror, type Page, type Source } from '../api'
const open = defineModel<boolean>({ required: true })
const router = useRouter()
const text = ref('')
const all = useQuery({
  queryKey: ['search'],
  enabled: open,
  queryFn: async () => {
    const [s, k, m, e] = await Promise.all([
      get<Page<Source>>('/sources'),
      get<Page<Key>>('/keys'),
      get<Page<Mirror>>('/mirrors'),
      get<Page<Edition>>('/editions'),
    ])
    return [
      ...s.items.map((x) => ({ kind: 'source', name: x.name, more: x.release, to: '/sources/' + x.name })),
      ...m.items.map((x) => ({ kind: 'mirror', name: x.name, more: x.copy, to: '/mirrors/' + x.name })),
      ...e.items.map((x) => ({
        kind: 'edition',
        name: x.name,
        more: x.lanes.join(', '),
        to: '/editions/' + x.name,
      })),
      ...k.items.map((x) => ({
        kind: 'key',
        name: x.user_ids[0] ?? x.fingerprint,
        more: x.fingerprint,
        to: '/keys/' + x.fingerprint,
      })),
    ]
  },
})
const found = computed(() => {
  const q = text.value.toLowerCase().replaceAll(' ', '')
  return (all.data.value ?? [])
    .filter((x) => !q || (x.kind + x.name + x.more).toLowerCase().replaceAll(' ', '').includes(q))
    .slice(0, 12)
})
function go(x: { to: string } | null) {
  if (x) {
    open.value = false
    text.value = ''
    router.push(x.to)
  }
}
</script>
<template>
  <Dialog aria-label="Search" :open="open" class="relative z-50" @close="open = false">
    <div class="fixed inset-0 bg-black/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center pt-[12vh]">
      <DialogPanel class="panel w-full max-w-xl overflow-hidden shadow-xl">
        <Combobox nullable @update:model-value="go">
          <ComboboxInput
            class="h-11 w-full bg-transparent px-4 text-[15px] outline-none"
            placeholder="Name, fingerprint, edition …"
            aria-label="Search"
            @change="text = $event.target.value"
          />
          <ComboboxOptions static class="max-h-96 overflow-auto border-t border-line p-1">
            <ComboboxOption v-for="x in found" :key="x.to" v-slot="{ active }" :value="x"
              ><div
                class="flex cursor-pointer items-center gap-3 rounded px-3 py-1.5"
                :class="active ? 'bg-tide-soft' : ''"
              >
                <span class="w-14 text-slate">{{ x.kind }}</span><span>{{ x.name }}</span
                ><span class="mono ml-auto truncate text-slate">{{ x.more }}</span>
              </div></ComboboxOption
            >
            <p v-if="!found.length" class="px-3 py-2 text-slate">Nothing is called that.</p>
          </ComboboxOptions>
        </Combobox>
      </DialogPanel>
    </div>
  </Dialog>
</template>
