import { Button as AriaButton } from 'react-aria-components'
import styled from 'styled-components'
import { token } from '../theme'

export const Button = styled(AriaButton)`
  padding: 0.45rem 1rem;
  border: 1px solid ${token.accent};
  border-radius: ${token.radius};
  background: transparent;
  color: ${token.accent};
  font: 600 0.92rem/1.3 ${token.sans};
  cursor: pointer;
  &[data-hovered] {
    background: ${token.wash};
  }
  &[data-pressed] {
    translate: 0 1px;
  }
  &[data-disabled] {
    opacity: 0.45;
    cursor: default;
  }
`

export const MainButton = styled(Button)`
  background: ${token.accent};
  color: ${token.onAccent};
  &[data-hovered] {
    background: color-mix(in srgb, ${token.accent} 86%, black);
  }
`
