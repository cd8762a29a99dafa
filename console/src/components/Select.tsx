import { useId } from 'react'
import styled from 'styled-components'
import { fieldLook } from './fieldLook'

const Box = styled.div`
  ${fieldLook}
`

interface Given {
  label: string
  value: string
  choices: readonly (readonly [string, string])[] // value and words
  onChange: (value: string) => void
}

/** The browser's own select, with its label above it. */
export function Select({ label, value, choices, onChange }: Given) {
  const id = useId()
  return (
    <Box>
      <label htmlFor={id}>{label}</label>
      <select id={id} value={value} onChange={(event) => onChange(event.target.value)}>
        {choices.map(([one, words]) => (
          <option key={one} value={one}>
            {words}
          </option>
        ))}
      </select>
    </Box>
  )
}
