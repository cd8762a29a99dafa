import { Meter } from 'react-aria-components'
import styled from 'styled-components'
import type { Quota } from '../api/client'
import { quotaText, usedShare } from '../data/quotas'
import { useTexts } from '../texts'
import { token } from '../theme'

const Track = styled.div`
  height: 8px;
  min-width: 7rem;
  border-radius: 4px;
  background: color-mix(in srgb, ${token.line} 60%, transparent);
  overflow: hidden;
  @media (forced-colors: active) {
    border: 1px solid CanvasText;
  }
`

const Fill = styled.div<{ $full: boolean }>`
  height: 100%;
  background: ${(props) => (props.$full ? token.bad : token.accent)};
  @media (forced-colors: active) {
    forced-color-adjust: none;
    background: Highlight;
  }
`

/** How far somebody is with a quota, drawn and in words. */
export function QuotaBar({ quota }: { quota: Quota }) {
  const texts = useTexts().account
  const share = usedShare(quota)
  const words = quotaText(quota, texts, new Date())
  return (
    <Meter aria-label={quota.rule} value={100 * share} valueLabel={words}>
      <Track>
        <Fill $full={share >= 1} style={{ width: `${100 * share}%` }} />
      </Track>
      <span>{words}</span>
    </Meter>
  )
}
