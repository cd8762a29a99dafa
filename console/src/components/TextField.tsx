import {
  FieldError,
  Input,
  Label,
  TextField as AriaTextField,
  type TextFieldProps,
} from 'react-aria-components'
import styled from 'styled-components'
import { fieldLook } from './fieldLook'

const Box = styled(AriaTextField)`
  ${fieldLook}
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
