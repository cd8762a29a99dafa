import type { RefObject } from 'react'
import { Dialog, Popover } from 'react-aria-components'
import styled from 'styled-components'
import { token } from '../theme'
import { Notice } from './Notice'

const Sheet = styled(Popover)`
  max-width: min(26rem, 92vw);
  padding: 0 0.9rem;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.raised};
  color: ${token.ink};
  box-shadow: 0 8px 28px rgb(0 0 0 / 18%);
`

interface Given {
  label: string
  error: Error
  button: RefObject<HTMLButtonElement | null>
  close: () => void
}

/** What a download was refused for, beside the button that asked for it. */
export default function RefusedSheet({ label, error, button, close }: Given) {
  return (
    <Sheet triggerRef={button} placement="bottom end" isOpen onOpenChange={(open) => !open && close()}>
      <Dialog aria-label={label}>
        <Notice error={error} />
      </Dialog>
    </Sheet>
  )
}
