// One look for every table; the behaviour is React Aria's.
import { Cell, Column, Row, Table as AriaTable } from 'react-aria-components'
import styled from 'styled-components'
import { token } from '../theme'

export const Frame = styled.div`
  overflow: auto;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.surface};
`

export const Table = styled(AriaTable)`
  width: 100%;
  border-collapse: collapse;
  outline-offset: -2px;
`

export const Head = styled(Column)<{ $right?: boolean }>`
  padding: 0.5rem 0.8rem;
  border-bottom: 1px solid ${token.line};
  color: ${token.quiet};
  font-size: 0.85rem;
  font-weight: 600;
  text-align: ${(props) => (props.$right ? 'right' : 'left')};
  white-space: nowrap;
`

export const Line = styled(Row)`
  border-bottom: 1px solid color-mix(in srgb, ${token.line} 55%, transparent);
  outline-offset: -2px;
  &:last-child {
    border-bottom: 0;
  }
  &[data-hovered] {
    background: color-mix(in srgb, ${token.wash} 50%, transparent);
  }
  &[data-selected] {
    background: ${token.wash};
  }
  &[data-href],
  &[data-selection-mode] {
    cursor: default;
  }
`

export const Field = styled(Cell)<{ $right?: boolean; $quiet?: boolean }>`
  padding: 0.5rem 0.8rem;
  outline-offset: -2px;
  color: ${(props) => (props.$quiet ? token.quiet : 'inherit')};
  font-variant-numeric: tabular-nums;
  text-align: ${(props) => (props.$right ? 'right' : 'left')};
  white-space: ${(props) => (props.$right ? 'nowrap' : 'normal')};
  overflow-wrap: anywhere;
`

export const Empty = styled.p`
  margin: 0;
  padding: 1.6rem 0.8rem;
  color: ${token.quiet};
  text-align: center;
`
