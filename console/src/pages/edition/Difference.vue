<script setup lang="ts">
// What is in an edition and not in an older one, and the other way round.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { get, type Edition, type PackageChange, type Page } from '../../api'
import { count } from '../../format'
import Changes from '../../parts/Changes.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ base: string; name: string; older: Edition[] }>()
const against = defineModel<string>({ required: true })
const q = useQuery({
  queryKey: ['diff', props.base, against],
  queryFn: () =>
    get<Page<PackageChange>>(`${props.base}/diff${against.value ? '?against=' + against.value : ''}`),
  enabled: computed(() => props.older.length > 0),
})
</script>
<template>
  <template v-if="older.length">
    <div class="mb-2 flex items-center gap-3">
      <label for="against">Against</label
      ><select id="against" v-model="against" class="field !w-48">
        <option value="">the one before</option>
        <option v-for="o in older" :key="o.number" :value="String(o.number)">{{ o.name }}</option></select
      ><span class="text-slate">{{ count(q.data.value?.items.length ?? 0, 'difference') }}</span
      ><Take class="ml-auto" :name="name + '-difference'" :rows="q.data.value?.items ?? []" />
    </div>
    <Trouble :error="q.error.value" />
    <Changes
      v-if="q.data.value"
      :changes="q.data.value.items"
      scroll="calc(100vh - 250px)"
      empty="The packages are the same."
    />
  </template>
  <p v-else class="text-slate">This is the only edition of its mirror.</p>
</template>
