<script setup lang="ts">
// A text to be copied whole. Where a browser does not let pages copy (over plain HTTP by
// name, say), it says so and selects the text.
import { CheckIcon, ClipboardIcon } from '@heroicons/vue/24/outline'
import { ref } from 'vue'
import { copied } from '../copy'
const props = defineProps<{ text: string; what: string }>()
const box = ref<HTMLElement | null>(null)
const state = ref<'' | 'done' | 'not'>('')
async function copy() {
  state.value = (await copied(props.text, box.value)) ? 'done' : 'not'
  if (state.value === 'done') setTimeout(() => (state.value = ''), 1500)
}
</script>
<template>
  <div>
    <div class="flex items-center gap-2">
      <code ref="box" class="field !h-auto min-w-0 flex-1 overflow-auto py-1.5 whitespace-pre">{{
        text
      }}</code>
      <button class="btn" type="button" :aria-label="'Copy ' + what" @click="copy">
        <CheckIcon v-if="state === 'done'" class="size-4 text-moss" /><ClipboardIcon
          v-else
          class="size-4"
        />{{ state === 'done' ? 'Copied' : 'Copy' }}
      </button>
    </div>
    <p v-if="state === 'not'" role="status" class="mt-1 text-slate">
      This browser does not let the page copy here; the text is selected: press Ctrl+C.
    </p>
  </div>
</template>
