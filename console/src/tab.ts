// What the browser's tab says: the page, how much needs somebody, and how bad the worst of it is.
import { ref, watchEffect } from 'vue'

export const page = ref('')
/** A fingerprint is being compared: nothing else on the page may say what it should be. */
export const comparing = ref(false)
/** How many errors and warnings need attention. */
export const needs = ref({ errors: 0, warnings: 0 })

const colours = { error: '#c2410c', warning: '#d98b21' }
let plain = ''

watchEffect(() => {
  const { errors, warnings } = needs.value
  const n = errors + warnings
  document.title = `${n ? `(${n}) ` : ''}${page.value ? page.value + ' · ' : ''}Stockade`
  icon(errors ? colours.error : warnings ? colours.warning : '')
})

/** Puts a dot of a colour on the icon; none: the icon as it is. */
async function icon(dot: string) {
  const link = document.querySelector<HTMLLinkElement>('link[rel=icon]')
  if (!link) return
  if (!dot) {
    link.href = '/icon.svg'
    return
  }
  plain ||= await fetch('/icon.svg').then((r) => r.text())
  const marked = plain.replace('</svg>', `<circle cx="24" cy="8" r="8" fill="${dot}"/></svg>`)
  link.href = 'data:image/svg+xml,' + encodeURIComponent(marked)
}
