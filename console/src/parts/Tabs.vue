<script setup lang="ts">
// Tabs with a panel each: the slot of a tab is called by its number, from 0. Which one is
// open stands in the address.
import { Tab, TabGroup, TabList, TabPanel, TabPanels } from '@headlessui/vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

const props = withDefaults(defineProps<{ names: readonly string[]; query?: string }>(), {
  query: 'tab',
})
const route = useRoute()
const router = useRouter()
const open = computed(() => {
  const n = Number(route.query[props.query] ?? 0)
  return n > 0 && n < props.names.length ? n : 0
})
function go(n: number) {
  router.replace({ query: { ...route.query, [props.query]: n || undefined } })
}
</script>
<template>
  <TabGroup :selected-index="open" @change="go">
    <TabList class="mb-3 flex gap-1 border-b border-line">
      <Tab v-for="t in names" :key="t" v-slot="{ selected }" as="template">
        <button
          class="-mb-px border-b-2 px-3 py-1.5"
          :class="selected ? 'border-tide font-medium text-tide' : 'border-transparent text-slate'"
        >
          {{ t }}
        </button>
      </Tab>
    </TabList>
    <TabPanels>
      <TabPanel v-for="(t, i) in names" :key="t" :unmount="false"><slot :name="String(i)" /></TabPanel>
    </TabPanels>
  </TabGroup>
</template>
