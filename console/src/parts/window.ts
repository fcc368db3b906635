// A long table scrolls by itself, and only the rows that are seen of it, and some beside them, are drawn.
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, type Ref } from 'vue'

const many = 100 // rows from which they are virtual
const rowHeight = 29

/** The rows of a table that are drawn, and the height of those before and after them. box is what scrolls. */
export function useWindow<T>(rows: Ref<T[]>, box: Readonly<Ref<HTMLElement | null>>, overscan = 20) {
  const virtual = computed(() => rows.value.length > many)
  const window_ = useVirtualizer(
    computed(() => ({
      count: virtual.value ? rows.value.length : 0,
      getScrollElement: () => box.value,
      estimateSize: () => rowHeight,
      overscan,
    })),
  )
  const items = computed(() => window_.value.getVirtualItems())
  const shown = computed(() => (virtual.value ? items.value.map((v) => rows.value[v.index]) : rows.value))
  const before = computed(() => (virtual.value ? (items.value[0]?.start ?? 0) : 0))
  const after = computed(() => {
    const last = items.value.at(-1)
    return virtual.value && last ? window_.value.getTotalSize() - last.end : 0
  })
  return { virtual, shown, before, after }
}
