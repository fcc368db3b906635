<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, type Files, type Group, type Page } from '../../api'
import Count from '../../parts/Count.vue'
import Findings from '../../parts/Findings.vue'
import Edit from '../../parts/Edit.vue'
import New from '../../parts/New.vue'
import Trouble from '../../parts/Trouble.vue'
const q = useQuery({ queryKey: ['groups'], queryFn: () => get<Page<Group>>('/groups') })
const files = ref<Files | null>(null)
const at = ref('')
const error = ref<unknown>(null)
async function show(g: string) {
  error.value = null
  files.value = null
  try {
    files.value = await get<Files>(
      `/groups/${g}/files${at.value ? '?at=' + encodeURIComponent(at.value) : ''}`,
    )
  } catch (e) {
    error.value = e
  }
}
const copy = (t: string) => navigator.clipboard?.writeText(t)
const text = (b64: string) => new TextDecoder().decode(Uint8Array.from(atob(b64), (c) => c.charCodeAt(0)))
const told = computed(() => (q.data.value?.items ?? []).filter((g) => g.findings.length))
</script>
<template>
  <div class="mb-1 flex items-center">
    <h1>Machines</h1>
    <New class="ml-auto" of="group" />
  </div>
  <p class="mb-4 text-slate">
    Groups of machines, the lane that each follows, and the files that its machines need.
  </p>
  <Trouble :error="q.error.value ?? error" class="mb-4" />
  <div v-if="q.data.value" class="panel overflow-x-auto">
    <table v-if="q.data.value.items.length" class="grid-table">
      <thead>
        <tr>
          <th>Group</th>
          <th>Family</th>
          <th>Release</th>
          <th>Architectures</th>
          <th>Lane</th>
          <th>Edition</th>
          <th>Pins</th>
          <th>Findings</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="g in q.data.value.items" :key="g.name">
          <td class="font-medium">{{ g.name }}</td>
          <td>{{ g.family }}</td>
          <td>{{ g.release || '–' }}</td>
          <td>{{ g.architectures?.join(', ') || '–' }}</td>
          <td>{{ g.lane }}</td>
          <td class="mono">{{ g.edition || 'none yet' }}</td>
          <td class="mono">{{ g.pins?.join(', ') || '–' }}</td>
          <td><Count :findings="g.findings" /></td>
          <td class="num">
            <span class="flex justify-end gap-1.5"
              ><Edit class="!h-6" kind="group" :name="g.name" /><button
                class="btn !h-6"
                @click="show(g.name)"
              >
                Files
              </button></span
            >
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else class="px-3 py-3 text-slate">
      No group is described yet: machines of one kind, which follow a lane.
    </p>
  </div>
  <div v-for="g in told" :key="g.name" class="panel mt-3"><Findings :findings="g.findings" /></div>
  <div class="mt-3 flex items-center gap-2">
    <label for="at" class="text-slate">Packages are found at</label
    ><input
      id="at"
      v-model="at"
      class="field mono !w-96"
      placeholder="the lane's address, or a folder such as /media/stick/barrage"
    />
  </div>
  <section v-if="files" class="mt-5 space-y-3">
    <h2>
      Files of a machine of {{ files.group }}, for {{ files.edition }} at <code>{{ files.at }}</code>
    </h2>
    <div v-if="files.findings.length" class="panel"><Findings :findings="files.findings" /></div>
    <div v-for="f in files.files" :key="f.path" class="panel overflow-hidden">
      <div class="flex items-center border-b border-line px-3 py-1.5">
        <code>/{{ f.path }}</code
        ><button v-if="!f.path.endsWith('.gpg')" class="btn ml-auto !h-6" @click="copy(text(f.data))">
          Copy
        </button>
      </div>
      <pre v-if="!f.path.endsWith('.gpg')" class="mono overflow-auto px-3 py-2">{{ text(f.data) }}</pre>
      <p v-else class="px-3 py-2 text-slate">
        A keyring of {{ Math.floor((f.data.length * 3) / 4) }} bytes; stockade group files
        {{ files.group }} --out ROOT writes it.
      </p>
    </div>
  </section>
</template>
