/** Copies a text; where the browser does not let it, selects the text in an element instead. */
export async function copied(text: string, element: HTMLElement | null): Promise<boolean> {
  try {
    if (navigator.clipboard) {
      await navigator.clipboard.writeText(text)
      return true
    }
  } catch {
    // not allowed here: the older way, then the person's own hand
  }
  if (!element) return false
  const range = document.createRange()
  range.selectNodeContents(element)
  const selection = getSelection()
  selection?.removeAllRanges()
  selection?.addRange(range)
  return document.execCommand('copy')
}
