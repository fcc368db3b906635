<script setup lang="ts">
// A button that makes a call of the API. Whose role does not let them make it sees why beside
// it; in a dense table a lock stands for that, and the page says once what it is (Lack).
import { LockClosedIcon } from '@heroicons/vue/16/solid'
import { computed } from 'vue'
import { lacks, type Does } from '../api'

const props = defineProps<{ does: Does; disabled?: boolean; dense?: boolean }>()
const lack = computed(() => lacks(props.does))
</script>
<template>
  <button class="btn" :disabled="disabled || !!lack" :data-does="does">
    <slot />
    <span v-if="lack" class="inline-flex items-center gap-0.5 font-normal"
      ><LockClosedIcon class="size-3" aria-hidden="true" /><span :class="dense ? 'sr-only' : ''"
        >needs {{ lack }}</span
      ></span
    >
  </button>
</template>
