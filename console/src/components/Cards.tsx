// A list of cards: what a table is where there is no room for one.
import {
  Collection,
  GridList,
  GridListItem,
  GridListLoadMoreItem,
  ListLayout,
  Virtualizer,
} from 'react-aria-components'
import styled from 'styled-components'
import { useTexts } from '../texts'
import { token } from '../theme'
import type { ColumnOf, RowsOf } from './rowsOf'
import { SelectionCheckbox } from './SelectionCheckbox'
import { Empty, Frame } from './Table'

const CARD = 96 // pixels, about; each is measured

const Card = styled(GridListItem)`
  display: grid;
  grid-template-columns: auto minmax(0, 1fr) auto;
  gap: ${token.gap.small} ${token.gap.usual};
  padding: 0.7rem 0.8rem;
  border-bottom: 1px solid color-mix(in srgb, ${token.line} 55%, transparent);
  outline-offset: -2px;
  cursor: default;
  &[data-selected] {
    background: ${token.wash};
  }
  &[data-disabled] {
    color: ${token.quiet};
  }
`

const Body = styled.div`
  grid-column: 2;
  min-width: 0;
  overflow-wrap: anywhere;
`

const Facts = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0 ${token.gap.usual};
  margin-top: 0.15rem;
  color: ${token.quiet};
  font-size: ${token.type.small};
  font-variant-numeric: tabular-nums;
`

const Fact = styled.span`
  &:has(> span:empty) {
    display: none;
  }
`

const End = styled.div`
  grid-column: 3;
  align-self: center;
`

export default function Cards<T extends object>(given: RowsOf<T>) {
  const { columns, rows, idOf, textOf, selection, more } = given
  const texts = useTexts()
  return (
    <Frame $above="12rem">
      <Virtualizer layout={ListLayout} layoutOptions={{ estimatedRowHeight: CARD }}>
        <GridList
          aria-label={given.label}
          selectionMode={selection ? 'multiple' : 'none'}
          {...(selection && {
            selectedKeys: selection.selected,
            disabledKeys: selection.disabled,
            onSelectionChange: selection.onChange,
          })}
          {...(given.onOpen && { onAction: (key) => given.onOpen?.(String(key)) })}
          renderEmptyState={() => <Empty role="status">{given.empty}</Empty>}
        >
          <Collection items={rows} dependencies={[columns, Boolean(selection)]}>
            {(row) => (
              <Card id={idOf(row)} textValue={textOf(row)}>
                {selection && <SelectionCheckbox />}
                <OnCard columns={columns} row={row} />
              </Card>
            )}
          </Collection>
          {more?.has && (
            <GridListLoadMoreItem
              isLoading={more.loads}
              onLoadMore={() => {
                if (!more.loads) more.load()
              }}
            >
              <Empty>{texts.common.lookingForMore}</Empty>
            </GridListLoadMoreItem>
          )}
        </GridList>
      </Virtualizer>
    </Frame>
  )
}

function OnCard<T extends object>({ columns, row }: { columns: readonly ColumnOf<T>[]; row: T }) {
  const [first, ...rest] = columns
  const facts = rest.filter((column) => column.card === undefined)
  const ends = rest.filter((column) => column.card === 'end')
  return (
    <>
      <Body>
        {first?.cell(row)}
        <Facts>
          {facts.map((column) => (
            <Fact key={column.id}>
              {!column.hidesName && `${column.name}: `}
              <span>{column.cell(row)}</span>
            </Fact>
          ))}
        </Facts>
      </Body>
      {ends.length > 0 && (
        <End>
          {ends.map((column) => (
            <div key={column.id}>{column.cell(row)}</div>
          ))}
        </End>
      )}
    </>
  )
}
