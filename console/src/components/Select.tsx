import { useId } from 'react'
import styled from 'styled-components'
import { token } from '../theme'

const Box = styled.div`
  display: grid;
  gap: 0.25rem;
  align-content: start;
  label {
    font-weight: 600;
  }
  select {
    width: 100%;
    padding: 0.45rem 0.6rem;
    border: 1px solid ${token.quiet};
    border-radius: ${token.radius};
    background: ${token.raised};
    color: inherit;
    font: inherit;
  }
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
