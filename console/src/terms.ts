// The glossary: the words of the documents' glossary, from the same file. A page shows a word's explanation beside it.
import glossary from './glossary.json'

export type Term = string
export interface Word {
  id: string
  word: string
  also?: string[]
  /** A word of Stockade's own, which is explained on every page that has it. */
  own?: boolean
  text: string
}
export const words: Word[] = glossary
const texts = new Map(words.map((w) => [w.id, w.text]))

/** The explanation of a term. A missing one is a fault of the program, which a test looks for. */
export const meaning = (t: Term) => texts.get(t) ?? ''

const patterns = words
  .filter((w) => w.own)
  .map((w) => ({ w, at: new RegExp('\\b(' + [w.word, ...(w.also ?? [])].join('|') + ')\\b', 'i') }))

/** The words of Stockade's own that a text has. */
export const wordsOf = (text: string) => patterns.filter((p) => p.at.test(text)).map((p) => p.w)
