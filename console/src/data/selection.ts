// What is selected, kept while one goes from folder to folder.
import { useSyncExternalStore } from 'react'
import type { FileEntry } from '../api/client'

export type Selected = ReadonlyMap<string, FileEntry>

let selected: Selected = new Map()
const listeners = new Set<() => void>()

function become(next: Selected): void {
  selected = next
  for (const listener of listeners) listener()
}

/** The selection after a folder's own part of it has changed to `keys`; what is elsewhere stays. */
export function changed(before: Selected, here: readonly FileEntry[], keys: ReadonlySet<string>): Selected {
  const next = new Map(before)
  for (const entry of here) {
    if (keys.has(entry.address)) next.set(entry.address, entry)
    else next.delete(entry.address)
  }
  return next
}

export function selectHere(here: readonly FileEntry[], keys: ReadonlySet<string>): void {
  become(changed(selected, here, keys))
}

export function clearSelection(): void {
  if (selected.size) become(new Map())
}

export function useSelection(): Selected {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener)
      return () => listeners.delete(listener)
    },
    () => selected,
  )
}
