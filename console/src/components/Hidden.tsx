// For those who listen: a text that is not shown.
import styled from 'styled-components'

export const Hidden = styled.span`
  position: absolute;
  width: 1px;
  height: 1px;
  margin: -1px;
  overflow: hidden;
  clip-path: inset(50%);
  white-space: nowrap;
`
