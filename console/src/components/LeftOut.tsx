// What an archive leaves out, and why, before it begins.
import type { ReactNode } from 'react'
import styled from 'styled-components'
import type { Bundle } from '../api/client'
import { useTexts } from '../texts'
import { token } from '../theme'
import { SafeText } from './SafeText'

const Box = styled.div`
  margin: 0.5rem 0;
  padding: 0.6rem 1rem;
  border-left: 4px solid ${token.warn};
  background: ${token.wash};
  overflow-wrap: anywhere;
  ul {
    max-height: 9rem;
    margin: 0.3rem 0 0.6rem;
    padding-left: 1.2rem;
    overflow: auto;
  }
  li span {
    color: ${token.quiet};
  }
`

export function LeftOut({ left, children }: { left: Bundle['left_out']; children: ReactNode }) {
  const { selection, common } = useTexts()
  const reasons: Partial<Record<string, string>> = selection.reasons
  return (
    <Box role="alert">
      <b>{selection.wouldLeaveOut(common.files(left.length))}</b>
      {/* A list that scrolls has to be reached by the keyboard. */}
      {/* eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex */}
      <ul tabIndex={0} aria-label={common.filesLabel}>
        {left.map((one) => (
          <li key={one.address}>
            <SafeText>{one.address}</SafeText> <span>{reasons[one.reason] ?? one.reason}</span>
          </li>
        ))}
      </ul>
      {children}
    </Box>
  )
}
