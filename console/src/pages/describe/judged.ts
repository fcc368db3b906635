// What the service says of documents, asked anew a moment after they were changed.
import { ref, watch } from 'vue'
import { post, type Judgement } from '../../api'

export interface Asked {
  documents: { name: string; text: string }[]
  files?: Record<string, string>
}

export function useJudged(asked: () => Asked) {
  const live = ref<Judgement | null>(null)
  const error = ref<unknown>(null)
  let timer = 0
  let turn = 0
  function check() {
    clearTimeout(timer)
    timer = window.setTimeout(async () => {
      const mine = ++turn
      const documents = asked().documents.filter((d) => d.text.trim())
      if (!documents.length) return void (live.value = null)
      try {
        const j = await post<Judgement>('/definitions/compare', { ...asked(), documents })
        if (mine === turn) live.value = j
      } catch (e) {
        if (mine === turn) error.value = e
      }
    }, 300)
  }
  watch(asked, check, { immediate: true, deep: true })
  return { live, error, check }
}
