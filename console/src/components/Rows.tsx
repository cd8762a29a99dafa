// Rows of anything: a table where there is room for one, and a list of cards where there is not.
import {
  createContext,
  lazy,
  memo,
  Suspense,
  useCallback,
  useContext,
  useLayoutEffect,
  useMemo,
  useRef,
} from 'react'
import {
  Collection,
  TableBody,
  TableHeader,
  TableLoadMoreItem,
  type Key,
  type Selection,
  type SortDescriptor,
} from 'react-aria-components'
import { useNarrow } from '../data/narrow'
import { useTexts } from '../texts'
import { Hidden } from './Hidden'
import type { ColumnOf, RowsOf } from './rowsOf'
import { SelectionCheckbox } from './SelectionCheckbox'
import { Empty, Field, Head, Line, Table } from './Table'

// More is loaded when the end is nearer than this, as a part of what can be seen at once.
const NEAR = 0.3

// Of the two, the one that is wanted is loaded.
const Cards = lazy(() => import('./Cards'))

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

/**
 * Rows reach the body by a context, and everything else that the table is given stays the same while they change: so
 * what is drawn is drawn anew once, from the new rows, and not once from the old ones before.
 */
const Given = createContext<RowsOf<object> | null>(null)

function AsTable<T extends object>(given: RowsOf<T>) {
  const { columns, selection, onOpen, onSort } = given
  const selects = Boolean(selection)
  const latest = useRef(given)
  useLayoutEffect(() => {
    latest.current = given
  })
  const select = useCallback((keys: Selection) => latest.current.selection?.onChange(keys), [])
  const open = useCallback((key: Key) => latest.current.onOpen?.(String(key)), [])
  const sort = useCallback((by: SortDescriptor) => latest.current.onSort?.(by), [])
  const content = useMemo(
    () => (
      <>
        <Heads columns={columns as readonly ColumnOf<never>[]} selects={selects} />
        <Body />
      </>
    ),
    [columns, selects],
  )
  return (
    <Given value={given as unknown as RowsOf<object>}>
      <Table
        aria-label={given.label}
        selectionMode={selection ? 'multiple' : 'none'}
        {...(selection && {
          selectedKeys: selection.selected,
          disabledKeys: selection.disabled,
          onSelectionChange: select,
        })}
        {...(onOpen && { onRowAction: open })}
        {...(given.sort && { sortDescriptor: given.sort })}
        {...(onSort && { onSortChange: sort })}
      >
        {content}
      </Table>
    </Given>
  )
}

function Heads({ columns, selects }: { columns: readonly ColumnOf<never>[]; selects: boolean }) {
  return (
    <TableHeader>
      {selects && (
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
              {sortDirection && <span aria-hidden="true">{sortDirection === 'ascending' ? ' ▲' : ' ▼'}</span>}
            </>
          )}
        </Head>
      ))}
    </TableHeader>
  )
}

function Body() {
  const given = useContext(Given)
  const texts = useTexts()
  if (!given) return null
  const { columns, rows, idOf, textOf, selection, more } = given
  return (
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
  )
}
