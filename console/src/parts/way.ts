// Ways out that are asked about. The question stands above every page, so that it outlives the
// finding that led to it, which goes when what it tells of is mended.
import { shallowRef } from 'vue'
import type { Amendment, Does, Finding } from '../api'

export type Way = NonNullable<Finding['way']>
/** One change to what is described, and the mirror that is built then. */
export interface Amending {
  of: Amendment
  title: string
  mirror: string
}
export const asked = shallowRef<{ way: Way } | { amend: Amending } | null>(null)

const does: Record<string, Does> = { add: 'amend', last: 'order', sweep: 'sweepPool' }
const words: Record<string, string> = {
  vouch: 'Compare and vouch',
  last: 'Move to the end',
  refresh: 'Refresh',
  probe: 'Probe',
  build: 'Build',
  sweep: 'Free space',
}
/** The call that a way makes. */
export const callOf = (w: Way) => does[w.does] ?? (w.does as Does)
/** What stands on its button. */
export const wordOf = (w: Way) => (w.does === 'add' ? `Add ${w.source} to it` : (words[w.does] ?? w.does))
/** Asks about a way out. */
export function ask(way: Way) {
  asked.value =
    way.does === 'add'
      ? {
          amend: {
            of: { kind: 'source', object: way.of, name: way.source ?? '' },
            title: `${wordOf(way)}: ${way.of}`,
            mirror: way.of.split(' ').slice(1).join(' '),
          },
        }
      : { way }
}
