import { CheckboxButton, CheckboxField } from 'react-aria-components'
import styled from 'styled-components'
import { token } from '../theme'

const Box = styled(CheckboxButton)`
  display: block;
  width: 1.1rem;
  height: 1.1rem;
  border: 1.5px solid ${token.quiet};
  border-radius: 3px;
  background: ${token.raised};
  svg {
    display: block;
    fill: none;
    stroke: ${token.onAccent};
    stroke-width: 2.6;
    stroke-linecap: round;
  }
  &[data-selected],
  &[data-indeterminate] {
    border-color: ${token.accent};
    background: ${token.accent};
  }
  @media (forced-colors: active) {
    svg {
      stroke: CanvasText;
    }
    &[data-selected],
    &[data-indeterminate] {
      background: Canvas;
      border-color: CanvasText;
    }
  }
`

/** The box by which a table's row, or all of them, are selected. */
export function SelectionCheckbox() {
  return (
    <CheckboxField slot="selection">
      <Box>
        {({ isSelected, isIndeterminate }) => (
          <svg viewBox="0 0 16 16" aria-hidden="true">
            {isIndeterminate ? <path d="M4 8h8" /> : isSelected ? <path d="M3.500 8.500l3 3 6-7" /> : null}
          </svg>
        )}
      </Box>
    </CheckboxField>
  )
}
