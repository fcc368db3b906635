import type { Item } from '../../api'

/** Why a package is in an edition, in words. */
export function reason(i: Item): string {
  if (i.wanted) return 'wanted: ' + i.for
  const words: Record<string, string> = {
    recommended: 'recommended by ' + i.for,
    suggested: 'suggested by ' + i.for,
    supplements: 'supplements what is there',
  }
  if (!i.for) return '–' // the list of an older edition does not say it
  return words[i.how ?? ''] ?? 'needed by ' + i.for
}
