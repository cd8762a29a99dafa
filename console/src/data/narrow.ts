// Whether the window is narrow, as on a telephone: tables have fewer columns then.
import { useSyncExternalStore } from 'react'

const NARROW = window.matchMedia('(max-width: 40rem)')

export function useNarrow(): boolean {
  return useSyncExternalStore(
    (listener) => {
      NARROW.addEventListener('change', listener)
      return () => NARROW.removeEventListener('change', listener)
    },
    () => NARROW.matches,
  )
}
