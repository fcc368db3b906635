<script setup lang="ts">
// The files for machines of a group, one by one and as one archive.
import { ArrowDownTrayIcon } from '@heroicons/vue/16/solid'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, type Files } from '../../api'
import Copy from '../../parts/Copy.vue'
import Findings from '../../parts/Findings.vue'
import Loading from '../../parts/Loading.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ group: string }>()
const at = ref('')
const query = computed(() => (at.value.trim() ? '?at=' + encodeURIComponent(at.value.trim()) : ''))
const q = useQuery({
  queryKey: ['files', props.group, query],
  queryFn: () => get<Files>(`/groups/${props.group}/files${query.value}`),
  placeholderData: (old: Files | undefined) => old,
})
const text = (b64: string) => new TextDecoder().decode(Uint8Array.from(atob(b64), (c) => c.charCodeAt(0)))
const binary = (path: string) => path.endsWith('.gpg')
const kit = computed(() => `stockade-${props.group}-${q.data.value?.edition.replace('/', '-')}`)
</script>
<template>
  <section>
    <h2 class="mb-2">Files for machines of {{ group }}</h2>
    <div class="mb-3 flex items-center gap-2">
      <label for="at" class="text-slate">Address of the packages</label
      ><input
        id="at"
        v-model.lazy="at"
        class="field mono !w-[28rem]"
        placeholder="the lane's address, or a folder such as /media/stick/barrage"
      />
    </div>
    <Trouble :error="q.error.value" class="mb-3" />
    <Loading v-if="q.isPending.value" />
    <template v-if="q.data.value && !q.error.value">
      <div class="panel mb-3 p-3">
        <div class="flex items-center gap-3">
          <p>
            For <code>{{ q.data.value.edition }}</code> at <code>{{ q.data.value.at }}</code>:
            {{ q.data.value.files.length }} files, keyrings included.
          </p>
          <a
            class="btn btn-go ml-auto hover:!no-underline"
            :href="`/api/v1/groups/${group}/kit${query}`"
            :download="kit + '.tar.gz'"
            ><ArrowDownTrayIcon class="size-4" />Download kit</a
          >
        </div>
        <p class="mt-2 mb-1 text-slate">
          Run this on the machine, as root. <code>--alone</code> also disables its other package sources;
          <code>sh {{ kit }}/back</code> restores the former state:
        </p>
        <Copy :text="`tar -xzf ${kit}.tar.gz && sh ${kit}/apply --alone`" what="the command" />
      </div>
      <div v-if="q.data.value.findings.length" class="panel mb-3">
        <Findings :findings="q.data.value.findings" />
      </div>
      <details v-for="f in q.data.value.files" :key="f.path" class="panel mb-2 overflow-hidden">
        <summary class="cursor-pointer px-3 py-1.5">
          <code>/{{ f.path }}</code>
        </summary>
        <p v-if="binary(f.path)" class="border-t border-line px-3 py-2 text-slate">
          A keyring of {{ Math.floor((f.data.length * 3) / 4) }} bytes, part of the kit.
        </p>
        <div v-else class="border-t border-line p-2">
          <Copy :text="text(f.data)" :what="'/' + f.path" />
        </div>
      </details>
    </template>
  </section>
</template>
