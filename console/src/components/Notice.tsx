import type { ReactNode } from 'react'
import styled from 'styled-components'
import { Refused } from '../api/problems'
import { useTexts } from '../texts'
import { token } from '../theme'
import { durationText } from './format'
import { SafeText } from './SafeText'

const FIRST = 5 // names that stand there at once
const NAMED = 100 // that the service names at most

const Box = styled.div`
  margin: 0.75rem 0;
  padding: 0.7rem 1rem;
  border: 1px solid transparent;
  border-left: 4px solid ${token.bad};
  border-radius: ${token.radius};
  background: ${token.badWash};
  overflow-wrap: anywhere;
  p {
    margin: 0 0 0.2rem;
  }
  ul {
    max-height: 9rem;
    margin: 0.3rem 0 0;
    padding-left: 1.2rem;
    overflow: auto;
  }
`

/** What the service said no to, about which files, and what to do. */
export function Notice({ error, children }: { error: Error; children?: ReactNode }) {
  const said = useTexts().errors
  const refused = error instanceof Refused ? error : null
  const names = refused?.names ?? []
  const { title, text, link, contact } = refused?.problem ?? {}
  return (
    <Box role="alert">
      {title && <b>{sentence(title)}</b>}
      <p>
        {names.length > 1 ? said.concerned(names.length, names.length >= NAMED) : sentence(error.message)}
      </p>
      {text && <p>{text}</p>}
      {refused?.retryAfter && <p>{said.tryAgainIn(durationText(refused.retryAfter))}</p>}
      {link && <Leads to={link} />}
      {names.length > 1 && (
        // A list that scrolls has to be reached by the keyboard.
        // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex
        <ul tabIndex={names.length > FIRST ? 0 : undefined} aria-label={said.files}>
          {names.map((name) => (
            <li key={name}>
              <SafeText>{name}</SafeText>
            </li>
          ))}
        </ul>
      )}
      {contact && <p>{said.contact(contact)}</p>}
      {children}
    </Box>
  )
}

function Leads({ to }: { to: string }) {
  return (
    <p>
      <a href={to}>{to.replace(/^mailto:/, '')}</a>
    </p>
  )
}

/** A text as a sentence. What begins with an address or a file stays as it is: those are told apart by their case. */
function sentence(text: string): string {
  const first = text.split(' ', 1)[0] ?? ''
  const begun = /[/.]./.test(first) ? text : text.charAt(0).toUpperCase() + text.slice(1)
  return begun + (/[.!?]$/.test(text) ? '' : '.')
}
