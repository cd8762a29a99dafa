import styled from 'styled-components'
import type { Transfer } from '../api/client'
import { token } from '../theme'

type Look = { text: string; colour: string; mark: string }

const LOOKS: Record<Transfer['state'], Look> = {
  running: { text: 'under way', colour: token.accent, mark: '↓' },
  complete: { text: 'complete', colour: token.good, mark: '✓' },
  partial: { text: 'a part', colour: token.warn, mark: '◐' },
  'broken-off': { text: 'broken off', colour: token.bad, mark: '✗' },
  'handed-off': { text: 'handed on', colour: token.good, mark: '→' },
}

const Word = styled.span<{ $colour: string }>`
  color: ${(props) => props.$colour};
  font-weight: 600;
  white-space: nowrap;
`

/** A transfer's state, in a word, a mark and a colour. */
export function State({ transfer }: { transfer: Transfer }) {
  // A page that was left open over an update may be told of states that it does not know.
  const known: Partial<Record<string, Look>> = LOOKS
  const look = known[transfer.state] ?? { text: transfer.state, colour: token.quiet, mark: '•' }
  return (
    <Word $colour={look.colour} title={transfer.reason ?? undefined}>
      <span aria-hidden="true">{look.mark}</span> {look.text}
    </Word>
  )
}
