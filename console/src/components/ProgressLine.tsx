import { ProgressBar } from 'react-aria-components'
import styled from 'styled-components'
import { useTexts } from '../texts'
import { token } from '../theme'

const Track = styled.div`
  height: 8px;
  min-width: 7rem;
  margin-top: 0.45rem;
  border-radius: 4px;
  background: color-mix(in srgb, ${token.line} 60%, transparent);
  overflow: hidden;
  @media (forced-colors: active) {
    border: 1px solid CanvasText;
  }
`

const Fill = styled.div<{ $state: string }>`
  height: 100%;
  border-radius: 4px;
  background: ${(props) => colourOf(props.$state)};
  transition: width 0.25s linear;
  @media (forced-colors: active) {
    forced-color-adjust: none;
    background: Highlight;
  }
`

const COLOURS: Partial<Record<string, string>> = {
  running: token.accent,
  complete: token.good,
  partial: token.warn,
  'broken-off': token.bad,
  'handed-off': token.good,
}

function colourOf(state: string): string {
  return COLOURS[state] ?? token.quiet
}

interface Given {
  transfer: { address: string; percent: number | null; state: string }
}

/** How much of a file has arrived. Without a known size there is no bar to fill. */
export function ProgressLine({ transfer }: Given) {
  const value = transfer.percent
  const said = useTexts().transfers
  return (
    <ProgressBar
      aria-label={said.progressOf(transfer.address)}
      value={value ?? 0}
      isIndeterminate={value === null}
    >
      <Track>
        <Fill $state={transfer.state} style={{ width: `${value ?? 0}%` }} />
      </Track>
    </ProgressBar>
  )
}
