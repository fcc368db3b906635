import type { Item } from '../../api'

/** Why a package is in an edition, in words. */
export function reason(i: Item): string {
  if (i.how === 'supplements' && !i.wanted) return 'supplements what is there'
  if (!i.for) return i.wanted ? 'wanted' : '–' // the list does not say it
  if (i.wanted) return 'wanted: ' + i.for
  if (i.how === 'recommended' || i.how === 'suggested') return `${i.how} by ${i.for}`
  return 'needed by ' + i.for
}
