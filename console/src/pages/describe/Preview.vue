<script setup lang="ts">
// What recording would change, by object and in words.
import type { Judgement } from '../../api'
import { written } from '../../format'
import Changed from '../../parts/Changed.vue'
import Losses from '../../parts/Losses.vue'
import Finger from '../../parts/Finger.vue'
import Mark from '../../parts/Mark.vue'

defineProps<{ of: Judgement }>()
const words: Record<string, ['good' | 'note' | 'warning', string]> = {
  add: ['good', 'new'],
  change: ['note', 'changed'],
  remove: ['warning', 'removed'],
}
</script>
<template>
  <div class="panel max-h-[500px] overflow-auto">
    <p v-if="!of.changes.length && !of.vouches.length && !of.renewed.length" class="px-3 py-2 text-slate">
      No changes.
    </p>
    <Losses :of="of.losses" />
    <details
      v-for="c in of.changes"
      :key="c.kind + c.name"
      :open="of.changes.length === 1"
      class="border-b border-line/60 px-3 py-1.5"
    >
      <summary class="cursor-pointer">
        <Mark :kind="words[c.action][0]" :word="words[c.action][1]" class="mr-1 w-20" />
        {{ c.kind }} <b class="font-semibold">{{ c.name }}</b>
        <span v-if="c.action === 'change'" class="ml-2 text-slate">{{
          c.fields.map((f) => f.path).join(', ')
        }}</span>
      </summary>
      <dl class="mt-1 grid grid-cols-[130px_minmax(0,1fr)] gap-x-3 pl-6">
        <template v-for="f in c.fields" :key="f.path">
          <dt class="text-slate">{{ f.path }}</dt>
          <dd class="mono break-words">
            <Changed v-if="c.action === 'change'" :of="f" />
            <template v-else>{{
              (f.gone ?? f.came)?.join(', ') || written(c.action === 'remove' ? f.old : f.new)
            }}</template>
          </dd>
        </template>
      </dl>
    </details>
    <div v-for="v in of.vouches" :key="v.fingerprint + v.source" class="border-b border-line/60 px-3 py-1.5">
      <Mark kind="warning" word="vouches" class="mr-1 w-20" />
      <Finger :of="v.fingerprint" brief /> may sign <b class="font-semibold">{{ v.source }}</b>
      <div class="pl-6 text-slate">{{ v.evidence }}</div>
    </div>
    <div v-for="r in of.renewed" :key="r.fingerprint" class="border-b border-line/60 px-3 py-1.5">
      <Mark kind="note" word="renewed" class="mr-1 w-20" />
      key <b class="font-semibold">{{ r.key }}</b>: {{ r.changes.join('; ') }}
    </div>
  </div>
</template>
