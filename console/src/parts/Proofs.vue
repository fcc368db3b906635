<script setup lang="ts">
// What was proved, for whom and beside what: how much can be installed, and which sets go together.
import type { Proof } from '../api'
import { count } from '../format'
import Mark from './Mark.vue'
import Term from './Term.vue'
defineProps<{ proofs: Proof[] }>()
</script>
<template>
  <table class="grid-table">
    <thead>
      <tr>
        <th>Proved for<Term of="proof" /></th>
        <th>On</th>
        <th>Baseline<Term of="baseline" /></th>
        <th class="num">{{ proofs.some((p) => p.every) ? 'Packages' : 'Wanted' }}</th>
        <th class="num">Can be installed</th>
        <th>Together</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="p in proofs" :key="(p.view ?? '') + p.architecture">
        <td>{{ p.view || 'machines of no group' }}</td>
        <td class="mono">{{ p.architecture }}</td>
        <td class="text-slate">
          {{ p.beside || 'nothing'
          }}<template v-if="p.rests_on?.length"
            >; required from it:
            <span class="mono">{{
              p.rests_on.length > 6
                ? p.rests_on.slice(0, 5).join(', ') + ' and ' + count(p.rests_on.length - 5, 'other')
                : p.rests_on.join(', ')
            }}</span></template
          >
        </td>
        <td class="num">{{ p.wanted.toLocaleString('en') }}</td>
        <td class="num">
          <Mark :kind="p.proved < p.wanted ? 'error' : 'good'" :word="p.proved.toLocaleString('en')" />
        </td>
        <td>
          <span v-if="!p.sets?.length" class="text-slate">–</span>
          <Mark
            v-for="s in p.sets"
            :key="s.name"
            class="mr-3"
            :kind="s.proved ? 'good' : 'error'"
            :word="s.name.replace(/^the (set of )?/, '') + (s.proved ? '' : ': no')"
          />
        </td>
      </tr>
    </tbody>
  </table>
</template>
