<script setup lang="ts">
// The servers of a source as they were probed, which may have come from a list; else as
// they are described.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { lacks, post, type Job, type Source } from '../../api'
import { size } from '../../format'
import Term from '../../parts/Term.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'
import { base64 } from '../describe/draft'
import Order from './Order.vue'
import Act from '../../parts/Act.vue'

const props = defineProps<{ source: Source }>()
const servers = computed(() => {
  const probes = props.source.probes ?? []
  const described = (props.source.upstreams ?? []).map((u) => ({
    url: u.url || u.mirror_list || u.metalink || '',
    region: u.region,
    list: !u.url,
    probe: probes.find((p) => p.upstream.url === u.url),
  }))
  const listed = probes
    .filter((p) => !described.some((d) => d.url === p.upstream.url))
    .map((p) => ({
      url: p.upstream.url,
      region: p.upstream.region,
      list: false,
      probe: p as typeof p | undefined,
    }))
  return [...described, ...listed]
})
const client = useQueryClient()
const asking = ref(false)
const error = ref<unknown>(null)
const emit = defineEmits<{ job: [job: Job] }>()
const whole = (s: { fresh: number; first_byte: number; rate: number }) => s.fresh + s.first_byte + s.rate
function ordered() {
  asking.value = false
  client.invalidateQueries()
}
async function probe(e: Event) {
  const input = e.target as HTMLInputElement
  error.value = null
  try {
    const file = input.files?.[0]
    if (file)
      emit('job', await post<Job>(`/sources/${props.source.name}/probe`, { candidates: await base64(file) }))
  } catch (x) {
    error.value = x
  } finally {
    input.value = ''
  }
}
const slowest = computed(() => Math.max(1, ...(props.source.probes ?? []).map((p) => p.first_byte_ns)))
</script>
<template>
  <section>
    <div class="mb-1.5 flex items-center gap-3">
      <h2>Upstreams, in the order of use</h2>
      <template v-if="!source.managed">
        <label
          v-if="!lacks('probe')"
          class="btn ml-auto !h-6 cursor-pointer"
          title="one URL per line, followed by its region; a list in the format of the clients; or a Metalink"
          >Probe servers from file<input
            type="file"
            class="sr-only"
            aria-label="File with further servers"
            @change="probe"
        /></label>
        <Act v-if="(source.probes?.length ?? 0) > 1" does="order" class="!h-6" @click="asking = true">
          Sort by score
        </Act>
      </template>
    </div>
    <Trouble :error="error" class="mb-2" />
    <Order v-if="asking" :source="source" @close="asking = false" @done="ordered" />
    <div class="panel overflow-x-auto">
      <table class="grid-table">
        <thead>
          <tr>
            <th>Upstream</th>
            <th>Region</th>
            <th>First byte</th>
            <th class="num">Rate</th>
            <th class="num">Score <Term of="score" /></th>
            <th>Release metadata</th>
            <th>Probed</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="u in servers" :key="u.url">
            <td class="mono !whitespace-normal wrap-anywhere">
              {{ u.url }}
              <span v-if="u.probe?.candidate" class="font-sans text-slate"
                >candidate, not used by builds</span
              >
            </td>
            <td>{{ u.region || '–' }}</td>
            <template v-if="u.probe">
              <td>
                <div class="flex items-center gap-2">
                  <span
                    class="block h-2 rounded-sm bg-tide"
                    :style="{ width: Math.max(2, (56 * u.probe.first_byte_ns) / slowest) + 'px' }"
                  /><span class="whitespace-nowrap">{{ (u.probe.first_byte_ns / 1e6).toFixed(1) }} ms</span>
                </div>
              </td>
              <td class="num">{{ size(u.probe.bytes_per_second) }}/s</td>
              <td class="num">
                {{ whole(u.probe.score) || '–' }}
                <span v-if="whole(u.probe.score)" class="block text-[12px] text-slate"
                  >{{ u.probe.score.fresh }} + {{ u.probe.score.first_byte }} + {{ u.probe.score.rate }}</span
                >
              </td>
              <td>
                <Mark v-if="u.probe.error" kind="error" word="down" />
                <Mark v-else-if="u.probe.finding?.code" kind="error" :word="u.probe.finding!.code" />
                <span v-else class="inline-flex gap-2"
                  ><Mark kind="good" word="good," /> <Moment :at="u.probe.root_date"
                /></span>
              </td>
              <td><Moment :at="u.probe.at" /></td>
            </template>
            <td v-else colspan="5" class="text-slate">
              {{ u.list ? 'a list of servers, read at each refresh' : 'not probed yet' }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>
