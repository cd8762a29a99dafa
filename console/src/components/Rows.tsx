// Rows of anything: a table where there is room for one, and a list of cards where there is not.
import { lazy, memo, Suspense, type ReactNode } from 'react'
import {
  Collection,
  TableBody,
  TableHeader,
  TableLoadMoreItem,
  type Selection,
  type SortDescriptor,
} from 'react-aria-components'
import { useNarrow } from '../data/narrow'
import { useTexts } from '../texts'
import { Hidden } from './Hidden'
import { SelectionCheckbox } from './SelectionCheckbox'
import { Empty, Field, Head, Line, Table } from './Table'

// More is loaded when the end is nearer than this, as a part of what can be seen at once.
const NEAR = 0.3

// Of the two, the one that is wanted is loaded.
const Cards = lazy(() => import('./Cards'))

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

function Anyhow<T extends object>(given: RowsOf<T>) {
  if (!useNarrow()) return <AsTable {...given} />
  return (
    <Suspense fallback={null}>
      <Cards {...(given as unknown as RowsOf<object>)} />
    </Suspense>
  )
}

/** Drawn again only when something else is given: what moves within a cell is the cell's own. */
export const Rows = memo(Anyhow) as typeof Anyhow

function AsTable<T extends object>(given: RowsOf<T>) {
  const { columns, rows, idOf, textOf, selection, more } = given
  const texts = useTexts()
  return (
    <Table
      aria-label={given.label}
      selectionMode={selection ? 'multiple' : 'none'}
      {...(selection && {
        selectedKeys: selection.selected,
        disabledKeys: selection.disabled,
        onSelectionChange: selection.onChange,
      })}
      {...(given.onOpen && { onRowAction: (key) => given.onOpen?.(String(key)) })}
      {...(given.sort && { sortDescriptor: given.sort })}
      {...(given.onSort && { onSortChange: given.onSort })}
    >
      <TableHeader>
        {selection && (
          <Head id="selection" width={44} minWidth={44}>
            <SelectionCheckbox />
          </Head>
        )}
        {columns.map((column, place) => (
          <Head
            key={column.id}
            id={column.id}
            isRowHeader={place === 0}
            $right={Boolean(column.right)}
            allowsSorting={Boolean(column.sorts)}
            {...(column.width !== undefined && { width: column.width })}
            {...(column.minWidth !== undefined && { minWidth: column.minWidth })}
          >
            {({ sortDirection }) => (
              <>
                {column.hidesName ? <Hidden>{column.name}</Hidden> : column.name}
                {sortDirection && (
                  <span aria-hidden="true">{sortDirection === 'ascending' ? ' ▲' : ' ▼'}</span>
                )}
              </>
            )}
          </Head>
        ))}
      </TableHeader>
      <TableBody renderEmptyState={() => <Empty role="status">{given.empty}</Empty>}>
        <Collection items={rows} dependencies={[columns, Boolean(selection)]}>
          {(row) => (
            <Line id={idOf(row)} textValue={textOf(row)}>
              {selection && (
                <Field data-line="">
                  <SelectionCheckbox />
                </Field>
              )}
              {columns.map((column) => (
                <Field
                  key={column.id}
                  $right={Boolean(column.right)}
                  $quiet={Boolean(column.quiet)}
                  $whole={Boolean(column.whole)}
                  {...(column.line && { 'data-line': '' })}
                >
                  {column.cell(row)}
                </Field>
              ))}
            </Line>
          )}
        </Collection>
        {more?.has && (
          <TableLoadMoreItem
            isLoading={more.loads}
            scrollOffset={NEAR}
            onLoadMore={() => {
              if (!more.loads) more.load()
            }}
          >
            <Empty>{texts.common.lookingForMore}</Empty>
          </TableLoadMoreItem>
        )}
      </TableBody>
    </Table>
  )
}
