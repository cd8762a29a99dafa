import {
  FieldError,
  Input,
  Label,
  TextField as AriaTextField,
  type TextFieldProps,
} from 'react-aria-components'
import styled from 'styled-components'
import { token } from '../theme'

const Box = styled(AriaTextField)`
  display: grid;
  gap: 0.25rem;
  align-content: start;
  label {
    font-weight: 600;
  }
  input {
    width: 100%;
    padding: 0.45rem 0.6rem;
    border: 1px solid ${token.quiet};
    border-radius: ${token.radius};
    background: ${token.raised};
    color: inherit;
    font: inherit;
  }
`

interface Given extends TextFieldProps {
  label: string
  placeholder?: string
}

/** A field for a short text, with its label above it. */
export function TextField({ label, placeholder, ...given }: Given) {
  return (
    <Box {...given}>
      <Label>{label}</Label>
      <Input spellCheck={false} placeholder={placeholder ?? ''} />
      <FieldError />
    </Box>
  )
}
