<script setup lang="ts">
// What a house source holds: files added by hand, with where each came from.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { call, get, type HousePackage, type Page } from '../../api'
import { size } from '../../format'
import Findings from '../../parts/Findings.vue'
import Finger from '../../parts/Finger.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'
import Act from '../../parts/Act.vue'
const props = defineProps<{ source: string; family: string }>()
const client = useQueryClient()
const q = useQuery({
  queryKey: ['house', props.source],
  queryFn: () => get<Page<HousePackage>>('/packages?source=' + props.source),
})
const adding = ref(false)
const removing = ref<HousePackage | null>(null)
const file = ref<File | null>(null)
const signature = ref<File | null>(null)
const from = ref('')
const why = ref('')
const busy = ref(false)
const error = ref<unknown>(null)
const added = ref<HousePackage | null>(null)
async function add() {
  busy.value = true
  error.value = null
  try {
    let query = `from=${encodeURIComponent(from.value)}&why=${encodeURIComponent(why.value)}`
    if (signature.value)
      query +=
        '&signature=' +
        encodeURIComponent(btoa(String.fromCharCode(...new Uint8Array(await signature.value.arrayBuffer()))))
    added.value = await call<HousePackage>('POST', `/sources/${props.source}/packages?${query}`, file.value!)
    adding.value = false
    file.value = signature.value = null
    from.value = why.value = ''
    await client.invalidateQueries()
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
async function remove() {
  const id = removing.value!.id
  removing.value = null
  error.value = null
  try {
    await call('DELETE', '/packages/' + id)
    added.value = null
    await client.invalidateQueries()
  } catch (e) {
    error.value = e
  }
}
const pick = (e: Event) => (e.target as HTMLInputElement).files?.[0] ?? null
</script>
<template>
  <section>
    <div class="mb-1.5 flex items-center gap-3">
      <h2>Packages, added by hand and signed by the site</h2>
      <Act does="addPackage" class="btn-go ml-auto" @click="adding = true"> Add package </Act>
    </div>
    <Trouble v-if="!adding" :error="q.error.value ?? error" class="mb-2" />
    <div v-if="added" class="panel mb-2" role="status">
      <p class="px-3 py-2">
        <Mark kind="good" :word="`added ${added.name} ${added.version}, as revision ${added.revision}`" />
      </p>
      <Findings v-if="added.findings.length" :findings="added.findings" class="border-t border-line" />
    </div>
    <div class="panel overflow-auto">
      <table v-if="q.data.value?.items.length" class="grid-table">
        <thead>
          <tr>
            <th>Package</th>
            <th>Version</th>
            <th>Architecture</th>
            <th class="num">Size</th>
            <th>Origin and reason</th>
            <th>Original signature</th>
            <th>Added</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in q.data.value.items" :key="p.id">
            <td class="font-medium">{{ p.name }}</td>
            <td class="mono">{{ p.version }}</td>
            <td>{{ p.architecture }}</td>
            <td class="num">{{ size(p.size) }}</td>
            <td class="max-w-80">
              {{ p.from }}<span class="block text-slate">{{ p.why }}</span>
            </td>
            <td>
              <Finger v-if="/^[0-9A-F]{40,}$/.test(p.signed_by ?? '')" :of="p.signed_by!" brief /><span
                v-else
                class="block max-w-48 break-words text-slate"
                >{{ p.signed_by || 'nobody' }}</span
              >
            </td>
            <td><Moment :at="p.at" />, {{ p.by }}</td>
            <td class="num"><Act does="removePackage" class="!h-6" @click="removing = p">Remove</Act></td>
          </tr>
        </tbody>
      </table>
      <p v-else-if="q.data.value" class="px-3 py-3 text-slate">
        No packages yet. Add a {{ family }} package file here, or with stockade package add FILE --source
        {{ source }}.
      </p>
    </div>
    <Modal :open="adding" :title="'Add package to ' + source" @close="adding = false">
      <form @submit.prevent="add">
        <label for="house-file" class="mb-1 block">Package file</label
        ><input id="house-file" type="file" class="field" @change="file = pick($event)" />
        <label for="house-sig" class="mt-3 mb-1 block">Its detached signature (optional)</label
        ><input id="house-sig" type="file" class="field" @change="signature = pick($event)" />
        <label for="house-from" class="mt-3 mb-1 block">Where it came from</label
        ><input
          id="house-from"
          v-model="from"
          class="field"
          placeholder="built from recipe 12 in the workshop"
        />
        <label for="house-why" class="mt-3 mb-1 block">Why it is needed</label
        ><input id="house-why" v-model="why" class="field" placeholder="the old lamps need it" />
        <p class="mt-3 text-slate">
          Stockade reads the file and adds it to the index of the source, which the site key signs. Machines
          then trust it on that.
        </p>
        <Trouble :error="error" class="mt-3" />
        <div class="mt-5 flex justify-end gap-2">
          <button type="button" class="btn" @click="adding = false">Cancel</button
          ><button class="btn btn-go" :disabled="busy || !file || !from.trim() || !why.trim()">
            {{ busy ? 'Adding…' : 'Add' }}
          </button>
        </div>
      </form>
    </Modal>
    <Modal
      :open="!!removing"
      :title="`Remove ${removing?.name} ${removing?.version}`"
      @close="removing = null"
      ><p>Existing editions keep it. The next build omits it. Restoring a revision brings it back.</p>
      <div class="mt-4 flex justify-end gap-2">
        <button class="btn" @click="removing = null">Cancel</button
        ><button class="btn btn-stop" @click="remove">Remove package</button>
      </div></Modal
    >
  </section>
</template>
