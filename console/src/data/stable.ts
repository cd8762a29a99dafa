// Lists that stay the same objects as long as they hold the same.
import { useRef } from 'react'

export interface Identified {
  readonly id: string
}

/** Rows of these ids: each the same object as before, and the list, too, while the ids are the same. */
export function rowsAgain(before: readonly Identified[], ids: readonly string[]): readonly Identified[] {
  if (before.length === ids.length && before.every((row, place) => row.id === ids[place])) return before
  const known = new Map(before.map((row) => [row.id, row]))
  return ids.map((id) => known.get(id) ?? { id })
}

export function useStableRows(ids: readonly string[]): readonly Identified[] {
  const rows = useRef<readonly Identified[]>([])
  // It gives the same for the same, whenever it is called.
  // eslint-disable-next-line react-hooks/refs
  return (rows.current = rowsAgain(rows.current, ids))
}
