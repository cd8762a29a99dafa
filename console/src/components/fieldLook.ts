import { css } from 'styled-components'
import { token } from '../theme'

/** What all fields of forms look like: the label above, the box below it. */
export const fieldLook = css`
  display: grid;
  gap: 0.25rem;
  align-content: start;
  min-width: 0;
  label {
    font-weight: 600;
  }
  input,
  select {
    width: 100%;
    min-width: 0;
    min-height: 2.45rem;
    padding: 0.45rem 0.6rem;
    border: 1px solid ${token.quiet};
    border-radius: ${token.radius};
    background: ${token.raised};
    color: inherit;
    font: inherit;
  }
`
