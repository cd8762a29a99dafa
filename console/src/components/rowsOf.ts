// What rows are: their columns, and what can be done with them. A table and a list of cards both show them.
import type { ReactNode } from 'react'
import type { Selection, SortDescriptor } from 'react-aria-components'

export interface ColumnOf<T> {
  id: string
  name: string
  cell: (row: T) => ReactNode
  width?: number | `${number}fr`
  minWidth?: number
  right?: boolean
  quiet?: boolean
  whole?: boolean // not broken into lines
  line?: boolean // never higher than a line
  sorts?: boolean
  hidesName?: boolean
  card?: 'end' | 'none' // on a card: at its right, or left out; otherwise a line of its own
}

export interface RowsOf<T extends object> {
  label: string
  columns: readonly ColumnOf<T>[] // the first one is what a row is called by
  rows: readonly T[]
  idOf: (row: T) => string
  textOf: (row: T) => string
  empty: ReactNode
  onOpen?: ((id: string) => void) | undefined
  selection?:
    | { selected: ReadonlySet<string>; disabled: readonly string[]; onChange: (keys: Selection) => void }
    | undefined
  sort?: SortDescriptor | undefined
  onSort?: (sort: SortDescriptor) => void
  more?: { has: boolean; loads: boolean; load: () => void }
}
