import type { ReactNode } from 'react'
import styled from 'styled-components'
import { token } from '../theme'

const List = styled.dl`
  display: grid;
  grid-template-columns: minmax(6rem, max-content) minmax(0, 1fr);
  gap: 0.3rem 1rem;
  margin: 0.6rem 0;
  dt {
    color: ${token.quiet};
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
`

/** What is known of something, a line each; what is not known is left out. */
export function Facts({ facts }: { facts: readonly (readonly [string, ReactNode])[] }) {
  return (
    <List>
      {facts
        .filter(([, value]) => value !== null && value !== undefined && value !== '')
        .map(([name, value]) => (
          <Fact key={name} name={name} value={value} />
        ))}
    </List>
  )
}

function Fact({ name, value }: { name: string; value: ReactNode }) {
  return (
    <>
      <dt>{name}</dt>
      <dd>{value}</dd>
    </>
  )
}
