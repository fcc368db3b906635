import { ref, watch } from 'vue'
export function size(n: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB']
  let i = 0
  while (Math.abs(n) >= 1024 && i < units.length - 1) {
    n /= 1024
    i++
  }
  return (i === 0 ? String(n) : n.toFixed(1)) + ' ' + units[i]
}
export function span(seconds: number): string {
  if (seconds < 60) return Math.max(0, Math.floor(seconds)) + ' s'
  if (seconds < 3600) return Math.floor(seconds / 60) + ' min'
  if (seconds < 172800) return Math.floor(seconds / 3600) + ' h'
  return Math.floor(seconds / 86400) + ' days'
}
export function ago(t?: string | null): string {
  if (!t || t.startsWith('0001')) return '–'
  const s = (Date.now() - Date.parse(t)) / 1000
  if (s < -5) return 'in ' + span(-s)
  return s < 5 ? 'just now' : span(s) + ' ago'
}
/** Whether times are shown whole, and not as how long ago they are. */
export const whole = ref(localStorage.getItem('stockade-times') === 'whole')
watch(whole, (w) => localStorage.setItem('stockade-times', w ? 'whole' : 'ago'))
export function absolute(t?: string | null): string {
  return !t || t.startsWith('0001') ? '' : new Date(t).toISOString().replace('T', ' ').slice(0, 19) + ' UTC'
}
export const spaced = (f: string) => f.replace(/(.{4})(?=.)/g, '$1 ')
export const count = (n: number, one: string, many = one + 's') =>
  `${n.toLocaleString('en')} ${n === 1 ? one : many}`
/** Hands a table over as a file. */
export function download(name: string, rows: Record<string, unknown>[], form: 'csv' | 'json') {
  let text: string
  if (form === 'json') text = JSON.stringify(rows, null, 2)
  else {
    const heads = rows.length ? Object.keys(rows[0]) : []
    // A cell that a spreadsheet would take for a formula is made text.
    const cell = (v: unknown) =>
      '"' +
      String(v ?? '')
        .replace(/^([=+\-@\t\r])/, "'$1")
        .replaceAll('"', '""') +
      '"'
    text = [heads.join(','), ...rows.map((r) => heads.map((h) => cell(r[h])).join(','))].join('\r\n')
  }
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([text], { type: form === 'json' ? 'application/json' : 'text/csv' }))
  a.download = name + '.' + form
  a.click()
  URL.revokeObjectURL(a.href)
}

/** A recorded value; long texts are cut. */
export const written = (v?: string) => (v && v.length > 160 ? v.slice(0, 160) + '…' : v || 'nothing')
