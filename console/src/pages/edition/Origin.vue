<script setup lang="ts">
// What was proved when an edition was built, and what it was made from.
import type { EditionDetail } from '../../api'
import Finger from '../../parts/Finger.vue'
import Findings from '../../parts/Findings.vue'
import Moment from '../../parts/Moment.vue'
import Proofs from '../../parts/Proofs.vue'

defineProps<{ edition: EditionDetail }>()
</script>
<template>
  <div class="space-y-4">
    <section v-if="edition.seal.proofs?.length">
      <h2 class="mb-1.5">Proof at the build</h2>
      <div class="panel overflow-x-auto"><Proofs :proofs="edition.seal.proofs" /></div>
    </section>
    <section v-if="edition.seal.because?.length">
      <h2 class="mb-1.5">Reasons for this edition</h2>
      <ul class="panel list-disc p-3 pl-7">
        <li v-for="what in edition.seal.because" :key="what">{{ what }}</li>
      </ul>
    </section>
    <section v-for="s in edition.seal.sources ?? []" :key="s.name" class="panel p-3">
      <h2 class="mb-2">{{ s.name }}</h2>
      <dl class="facts">
        <dt>Release</dt>
        <dd>
          {{ [s.family, s.release, (s.components ?? []).join(', ')].filter(Boolean).join(' · ') }} for
          {{ (s.architectures ?? []).join(', ') }}
        </dd>
        <dt>Release metadata</dt>
        <dd>
          made <Moment :at="s.root_date" />, from <code>{{ s.upstream }}</code>
        </dd>
        <dt>Signed by</dt>
        <dd v-if="s.signer.fingerprint">{{ s.signer.user_id }} <Finger :of="s.signer.fingerprint" /></dd>
        <dd v-else-if="s.unsigned">
          no one. {{ s.unsigned.by }} accepted that <Moment :at="s.unsigned.at" />, because
          {{ s.unsigned.reason }}
        </dd>
        <template v-if="s.source_packages">
          <dt>Source packages</dt>
          <dd>{{ s.source_packages.toLocaleString('en') }} came along, which its packages were built from</dd>
        </template>
        <dt>Indexes</dt>
        <dd>
          <div v-for="x in s.indexes" :key="x.path" class="mono">
            {{ x.path }} <span class="text-slate">{{ x.sha256.slice(0, 16) }}…</span>
          </div>
        </dd>
        <dt>Machines trust</dt>
        <dd>
          <div v-for="f in s.keys" :key="f">
            <Finger :of="f" />
            {{
              f === edition.seal.site_key
                ? '(the site key, which signs the indexes)'
                : s.tailored
                  ? '(upstream: it signed the packages)'
                  : '(upstream: copied byte for byte)'
            }}
          </div>
        </dd>
      </dl>
    </section>
    <section v-if="edition.sealed" class="panel p-3">
      <h2 class="mb-2">Export</h2>
      <p>
        As plain files, verified while they are written:
        <code>stockade edition export {{ edition.name }} DIR</code>
      </p>
    </section>
    <section v-if="edition.seal.findings?.length">
      <h2 class="mb-1.5">Findings at the build</h2>
      <div class="panel"><Findings :findings="edition.seal.findings" /></div>
    </section>
  </div>
</template>
