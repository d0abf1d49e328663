// Files on their way in and out of the browser.
import type { Schemas } from '../api/client'

export type Material = Schemas['Material']

/** The content of a file in base64, as the service takes it. */
export async function encoded(file: Blob): Promise<string> {
  return new Promise((resolve, reject) => {
    const reader = new FileReader()
    reader.onload = () => resolve(String(reader.result).split(',')[1] ?? '')
    reader.onerror = () => reject(new Error('The file cannot be read.'))
    reader.readAsDataURL(file)
  })
}

/** Saves a content that came in base64, or a text, as a file. */
export function save(name: string, content: string, text = false) {
  const bytes = text
    ? new TextEncoder().encode(content)
    : Uint8Array.from(atob(content), (c) => c.charCodeAt(0))
  const url = URL.createObjectURL(new Blob([bytes], { type: 'application/octet-stream' }))
  const link = document.createElement('a')
  link.href = url
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(url), 10_000)
}
