<script setup lang="ts">
// The servers of a source as they were probed, which may have come from a list; else as
// they are described.
import { computed } from 'vue'
import type { Source } from '../../api'
import { size } from '../../format'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'

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
const slowest = computed(() => Math.max(1, ...(props.source.probes ?? []).map((p) => p.first_byte_ns)))
</script>
<template>
  <section>
    <h2 class="mb-1.5">Upstreams, in the order in which they are asked</h2>
    <div class="panel overflow-hidden">
      <table class="grid-table">
        <thead>
          <tr>
            <th>Upstream</th>
            <th>Region</th>
            <th>First byte</th>
            <th class="num">Rate</th>
            <th>Root</th>
            <th>Probed</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="u in servers" :key="u.url">
            <td class="mono">{{ u.url }}</td>
            <td>{{ u.region || '–' }}</td>
            <template v-if="u.probe">
              <td>
                <div class="flex items-center gap-2">
                  <span
                    class="block h-2 rounded-sm bg-tide"
                    :style="{ width: Math.max(2, (90 * u.probe.first_byte_ns) / slowest) + 'px' }"
                  /><span>{{ (u.probe.first_byte_ns / 1e6).toFixed(1) }} ms</span>
                </div>
              </td>
              <td class="num">{{ size(u.probe.bytes_per_second) }}/s</td>
              <td>
                <Mark v-if="u.probe.error" kind="error" word="down" />
                <Mark v-else-if="u.probe.finding?.code" kind="error" :word="u.probe.finding!.code" />
                <span v-else class="inline-flex gap-2"
                  ><Mark kind="good" word="good," /> <Moment :at="u.probe.root_date"
                /></span>
              </td>
              <td><Moment :at="u.probe.at" /></td>
            </template>
            <td v-else colspan="4" class="text-slate">
              {{ u.list ? 'a list of servers, read at each refresh' : 'not probed yet' }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>
