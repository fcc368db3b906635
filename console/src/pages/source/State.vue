<script setup lang="ts">
// What is known of a source: the accepted root, what is described, upstreams, findings.
import type { Source, Job } from '../../api'
import Count from '../../parts/Count.vue'
import Finger from '../../parts/Finger.vue'
import Findings from '../../parts/Findings.vue'
import Moment from '../../parts/Moment.vue'
import Term from '../../parts/Term.vue'
import House from './House.vue'
import Upstreams from './Upstreams.vue'

defineProps<{ source: Source }>()
const emit = defineEmits<{ job: [job: Job] }>()
</script>
<template>
  <div class="space-y-5">
    <House v-if="source.managed" :source="source.name" :family="source.family" />
    <div class="grid grid-cols-2 gap-5">
      <section class="panel p-3">
        <h2 class="mb-2">Accepted release metadata<Term of="root" /></h2>
        <dl v-if="source.accepted" class="facts">
          <dt>Made</dt>
          <dd><Moment :at="source.accepted.date" /></dd>
          <dt>Name</dt>
          <dd>
            {{
              [source.accepted.origin, source.accepted.suite, source.accepted.codename]
                .filter(Boolean)
                .join(' · ')
            }}
          </dd>
          <dt>Signed by</dt>
          <dd>
            <template v-if="source.accepted.signer.fingerprint">
              <RouterLink :to="'/keys/' + source.accepted.signer.fingerprint">{{
                source.accepted.signer.user_id
              }}</RouterLink><br /><Finger :of="source.accepted.signer.fingerprint" brief />
            </template>
            <template v-else>no one; its checksum was accepted</template>
          </dd>
          <dt>Downloaded from</dt>
          <dd class="mono">{{ source.managed ? 'what was added by hand' : source.accepted.upstream }}</dd>
          <dt>Offers</dt>
          <dd>
            {{ source.accepted.offers.components?.join(', ') }} for
            {{ source.accepted.offers.architectures?.join(', ') }}
          </dd>
          <dt>Last contacted</dt>
          <dd><Moment :at="source.checked" /></dd>
        </dl>
        <p v-else class="text-slate">
          {{
            source.managed
              ? 'Stockade writes and signs its indexes at a refresh, and when a mirror that uses it is built.'
              : 'Nothing accepted yet. Refresh downloads the release metadata and verifies it.'
          }}
        </p>
      </section>
      <section class="panel p-3">
        <h2 class="mb-2">Definition</h2>
        <dl class="facts">
          <dt>Components</dt>
          <dd>{{ source.components?.join(', ') || '–' }}</dd>
          <dt>Architectures</dt>
          <dd>{{ source.architectures?.join(', ') }}</dd>
          <dt>Signed by</dt>
          <dd>{{ source.managed ? 'the site key' : source.signed_by?.join(', ') || 'no one' }}</dd>
          <dt>Maximum age</dt>
          <dd>{{ source.max_age || 'not set' }}</dd>
          <dt>Proxy</dt>
          <dd>{{ source.proxy || 'none' }}</dd>
          <template v-if="source.credentials?.length">
            <dt>Credential</dt>
            <dd>
              <RouterLink to="/credentials">{{ source.credentials.join(', ') }}</RouterLink>
            </dd>
          </template>
          <template v-if="source.authority">
            <dt>TLS authority</dt>
            <dd>{{ source.authority }}</dd>
          </template>
          <dt>Mirrors</dt>
          <dd>
            <template v-for="(m, i) in source.mirrors" :key="m"
              ><template v-if="i">, </template
              ><RouterLink :to="'/mirrors/' + m">{{ m }}</RouterLink></template
            ><template v-if="!source.mirrors.length">none</template>
          </dd>
        </dl>
      </section>
    </div>
    <Upstreams v-if="!source.managed" :source="source" @job="emit('job', $event)" />
    <section>
      <div class="mb-1.5 flex gap-3">
        <h2>Findings</h2>
        <Count :findings="source.findings" />
      </div>
      <div v-if="source.findings.length" class="panel"><Findings :findings="source.findings" /></div>
    </section>
  </div>
</template>
