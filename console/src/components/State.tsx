import styled from 'styled-components'
import { stateOf, type Shown, type Stated } from '../data/transferState'
import { useTexts } from '../texts'
import { token } from '../theme'

const LOOKS: Record<Shown | 'refused', { colour: string; mark: string }> = {
  running: { colour: token.accent, mark: '↓' },
  waiting: { colour: token.warn, mark: '…' },
  paused: { colour: token.warn, mark: '‖' },
  complete: { colour: token.good, mark: '✓' },
  partial: { colour: token.warn, mark: '◐' },
  'broken-off': { colour: token.bad, mark: '✗' },
  'handed-off': { colour: token.good, mark: '→' },
  refused: { colour: token.bad, mark: '⊘' },
}

const Word = styled.span<{ $colour: string }>`
  color: ${(props) => props.$colour};
  font-weight: 600;
  white-space: nowrap;
`

/** A transfer's state, in a word, a mark and a colour. */
export function State({ transfer }: { transfer: Stated }) {
  return <StateWord state={stateOf(transfer)} reason={transfer.reason} />
}

export function StateWord({ state, reason }: { state: string; reason?: string | null }) {
  const texts = useTexts().transfers
  // A page that was left open over an update may be told of states that it does not know.
  const looks: Partial<Record<string, { colour: string; mark: string }>> = LOOKS
  const words: Partial<Record<string, string>> = texts.states
  const said: Partial<Record<string, string>> = texts.statesSaid
  const look = looks[state] ?? { colour: token.quiet, mark: '•' }
  return (
    <Word $colour={look.colour} title={reason ?? said[state]}>
      <span aria-hidden="true">{look.mark}</span> {words[state] ?? state}
    </Word>
  )
}
