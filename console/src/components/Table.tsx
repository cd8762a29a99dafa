// One look for every table; the behaviour is React Aria's. Of a long one, the rows that can be seen are drawn.
import { memo, type ComponentProps } from 'react'
import {
  Cell,
  Column,
  Row,
  Table as AriaTable,
  TableLayout,
  Virtualizer,
  type Rect,
} from 'react-aria-components'
import styled from 'styled-components'
import { token } from '../theme'

const ROW = 42 // pixels that a row of one line is high; longer ones are measured
const HEAD = 36
const SIZES = { estimatedRowHeight: ROW, headingHeight: HEAD }

/**
 * Measures what may be higher than a line, and nothing else: each look at a cell lays out the page once more. And of
 * rows out of sight none is drawn ahead until somebody scrolls: new rows, as a search finds them, begin at the top.
 */
class Lines extends TableLayout<object> {
  override getVisibleLayoutInfos(rect: Rect) {
    const seen = this.virtualizer?.visibleRect
    if (seen?.y === 0 && rect.y === 0 && rect.height > seen.height) rect.height = seen.height
    return super.getVisibleLayoutInfos(rect)
  }

  protected override buildCell(...given: Parameters<TableLayout<object>['buildCell']>) {
    const cell = super.buildCell(...given)
    const props = given[0].props as { 'data-line'?: string } | undefined
    if (props?.['data-line'] !== undefined) {
      cell.layoutInfo.estimatedSize = false
      cell.layoutInfo.rect.height = ROW
    }
    return cell
  }
}

/** What holds rows, and scrolls when those are many; `$above` is what stands above it in the window. */
export const Frame = styled.div<{ $above: string }>`
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.surface};
  overflow: hidden;
  & > * {
    width: 100%;
    max-height: calc(100vh - ${(props) => props.$above});
    min-height: 9rem;
    overflow: auto;
    outline-offset: -2px;
  }
`

/** A table, which is as high as its rows, and scrolls when those are many. */
export const Table = memo(function Table(given: ComponentProps<typeof AriaTable>) {
  return (
    <Frame $above="15rem">
      <Virtualizer layout={Lines} layoutOptions={SIZES}>
        <AriaTable {...given} />
      </Virtualizer>
    </Frame>
  )
})

export const Head = styled(Column)<{ $right?: boolean }>`
  height: 100%;
  padding: 0.5rem 0.8rem;
  border-bottom: 1px solid ${token.line};
  background: ${token.surface};
  color: ${token.quiet};
  font-size: 0.85rem;
  font-weight: 600;
  text-align: ${(props) => (props.$right ? 'right' : 'left')};
  white-space: nowrap;
`

export const Line = styled(Row)`
  height: inherit;
  width: inherit;
  background: ${token.surface};
  border-bottom: 1px solid color-mix(in srgb, ${token.line} 55%, transparent);
  outline-offset: -2px;
  &[data-hovered] {
    background: color-mix(in srgb, ${token.wash} 50%, transparent);
  }
  &[data-selected] {
    background: ${token.wash};
  }
  &[data-disabled] {
    color: ${token.quiet};
  }
  @media (forced-colors: active) {
    &[data-selected] {
      outline: 2px solid Highlight;
    }
  }
  &[data-href],
  &[data-selection-mode] {
    cursor: default;
  }
`

export const Field = styled(Cell)<{ $right?: boolean; $quiet?: boolean; $whole?: boolean }>`
  padding: 0.5rem 0.8rem;
  outline-offset: -2px;
  color: ${(props) => (props.$quiet ? token.quiet : 'inherit')};
  font-variant-numeric: tabular-nums;
  text-align: ${(props) => (props.$right ? 'right' : 'left')};
  white-space: ${(props) => (props.$right || props.$whole ? 'nowrap' : 'normal')};
  overflow-wrap: anywhere;
`

export const Empty = styled.p`
  margin: 0;
  padding: 1.6rem 0.8rem;
  color: ${token.quiet};
  text-align: center;
`
