import styled from 'styled-components'
import { Refused } from '../api/client'
import { token } from '../theme'

const Box = styled.div`
  margin: 0.75rem 0;
  padding: 0.7rem 1rem;
  border-left: 4px solid ${token.bad};
  border-radius: ${token.radius};
  background: ${token.badWash};
  overflow-wrap: anywhere;
  ul {
    margin: 0.3rem 0 0;
    padding-left: 1.2rem;
  }
`

/** What the service said no to, and about which files. */
export function Notice({ error }: { error: Error }) {
  const names = error instanceof Refused ? error.names : []
  return (
    <Box role="alert">
      {sentence(error.message)}
      {names.length > 1 && (
        <ul>
          {names.map((name) => (
            <li key={name}>{name}</li>
          ))}
        </ul>
      )}
    </Box>
  )
}

function sentence(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1) + (/[.!?]$/.test(text) ? '' : '.')
}
