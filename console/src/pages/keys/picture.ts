// The fingerprint that a picture of a QR code, or a text file, holds.

const largest = 1600 // pixels: larger pictures are made smaller before they are looked at
const most = 64 * 1024 // characters of a text file

async function ofPicture(f: File): Promise<string> {
  const picture = await createImageBitmap(f).catch(() => {
    throw new Error('the picture cannot be read')
  })
  const scale = Math.min(1, largest / Math.max(picture.width, picture.height))
  const canvas = document.createElement('canvas')
  canvas.width = Math.max(1, Math.round(picture.width * scale))
  canvas.height = Math.max(1, Math.round(picture.height * scale))
  const context = canvas.getContext('2d', { willReadFrequently: true })!
  context.drawImage(picture, 0, 0, canvas.width, canvas.height)
  const { data } = context.getImageData(0, 0, canvas.width, canvas.height)
  const { default: jsQR } = await import('jsqr') // its own file: most never need it
  const code = jsQR(data, canvas.width, canvas.height)
  if (!code) throw new Error('there is no QR code in the picture that can be read')
  return code.data
}

/** Reads it; the error says what is missing. What it holds is compared like what is typed. */
export async function fingerprintIn(f: File): Promise<string> {
  const text = f.type.startsWith('image/') ? await ofPicture(f) : (await f.slice(0, most).text()).trim()
  const digits = text.replace(/^(openpgp4fpr|fpr):/i, '').replace(/[\s:]/g, '')
  if (/^([0-9a-f]{40}|[0-9a-f]{64})$/i.test(digits)) return text.replace(/^(openpgp4fpr|fpr):/i, '').trim()
  throw new Error(f.name + ' holds something else than one whole fingerprint')
}
