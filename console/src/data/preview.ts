// What a page can show of a file, and the first part of its text.
import { useQuery } from '@tanstack/react-query'
import { deliveryPath, type FileEntry } from '../api/client'
import { refusalOf } from '../api/problems'

export const SHOWN = 64 * 1024 // bytes of a text
export const ROWS = 100 // of a table

export type Kind = 'image' | 'table' | 'text' | 'pdf'

/** What a type is shown as; null where there is nothing to be shown. */
export function kindOf(type: string | null | undefined): Kind | null {
  if (!type) return null
  if (['image/png', 'image/jpeg', 'image/webp', 'image/gif', 'image/avif'].includes(type)) return 'image'
  if (type === 'text/csv') return 'table'
  if (type === 'application/pdf') return 'pdf'
  return type.startsWith('text/') || /^application\/(json|jsonl|xml|toml|yaml)$/.test(type) ? 'text' : null
}

/** The first part of a file's text. */
export function usePreview(file: FileEntry, enabled: boolean) {
  return useQuery({
    queryKey: ['preview', file.address, file.version, file.modified],
    queryFn: async ({ signal }) => {
      const head = { range: `bytes=0-${SHOWN - 1}`, accept: '*/*' }
      const response = await fetch(deliveryPath(file.address), { headers: head, signal })
      if (response.status === 416) return ''
      if (!response.ok) throw refusalOf(response, await response.json().catch(() => null))
      return await first(response)
    },
    enabled,
    staleTime: 60_000,
  })
}

/** So much of a body and no more: what is made on demand has no ranges. */
async function first(response: Response): Promise<string> {
  const reader = response.body?.getReader()
  const decoder = new TextDecoder()
  let text = ''
  let taken = 0
  while (reader && taken < SHOWN) {
    const { done, value } = await reader.read()
    if (done) return text + decoder.decode()
    taken += value.length
    text += decoder.decode(value, { stream: true })
  }
  await reader?.cancel()
  return text
}

/** The rows of a CSV text (RFC 4180); of one that was cut, without its last. */
export function rowsOf(text: string, cut: boolean): string[][] {
  const rows: string[][] = []
  let row: string[] = []
  let cell = ''
  let quoted = false
  for (let place = 0; place < text.length; place++) {
    const sign = text.charAt(place)
    if (quoted) {
      if (sign !== '"') cell += sign
      else if (text.charAt(place + 1) === '"') {
        cell += '"'
        place++
      } else quoted = false
    } else if (sign === '"' && cell === '') quoted = true
    else if (sign === ',') {
      row.push(cell)
      cell = ''
    } else if (sign === '\n') {
      rows.push([...row, cell.replace(/\r$/, '')])
      row = []
      cell = ''
    } else cell += sign
  }
  if (!cut && (cell || row.length)) rows.push([...row, cell])
  return rows
}
