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

/** What is the same as before stays the same object, and so does the list if all of it is. */
export function sameAgain<T>(
  before: readonly T[],
  now: readonly T[],
  idOf: (one: T) => string,
): readonly T[] {
  const known = new Map(before.map((one) => [idOf(one), one]))
  const kept = now.map((one) => {
    const old = known.get(idOf(one))
    if (old === undefined || old === one) return one
    return JSON.stringify(old) === JSON.stringify(one) ? old : one
  })
  return kept.length === before.length && kept.every((one, place) => one === before[place]) ? before : kept
}

export function useSame<T>(now: readonly T[], idOf: (one: T) => string): readonly T[] {
  const before = useRef<readonly T[]>([])
  // It gives the same for the same, whenever it is called.
  // eslint-disable-next-line react-hooks/refs
  return (before.current = sameAgain(before.current, now, idOf))
}

export function useStableRows(ids: readonly string[]): readonly Identified[] {
  const rows = useRef<readonly Identified[]>([])
  // It gives the same for the same, whenever it is called.
  // eslint-disable-next-line react-hooks/refs
  return (rows.current = rowsAgain(rows.current, ids))
}
