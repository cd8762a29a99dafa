import { useRef, useState } from 'react'
import { Button as AriaButton, Dialog, Popover } from 'react-aria-components'
import styled from 'styled-components'
import { save } from '../data/downloads'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Icon } from './Icon'
import { Notice } from './Notice'

const Small = styled(AriaButton)`
  display: inline-flex;
  padding: 0.25rem;
  border: 0;
  border-radius: ${token.radius};
  background: transparent;
  cursor: pointer;
  &[data-hovered] {
    background: ${token.wash};
  }
`

const Sheet = styled(Popover)`
  max-width: min(26rem, 92vw);
  padding: 0 0.9rem;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.raised};
  color: ${token.ink};
  box-shadow: 0 8px 28px rgb(0 0 0 / 18%);
`

/** Has the browser fetch what a path delivers; what it is refused for stands beside the button. */
export function DownloadButton({ label, path }: { label: string; path: string }) {
  const [refused, setRefused] = useState<Error | null>(null)
  const texts = useTexts().files
  const button = useRef<HTMLButtonElement>(null)
  return (
    <>
      <Small ref={button} aria-label={label} onPress={() => save(path, setRefused)}>
        <Icon of="save" />
      </Small>
      <Sheet
        triggerRef={button}
        placement="bottom end"
        isOpen={refused !== null}
        onOpenChange={(open) => !open && setRefused(null)}
      >
        <Dialog aria-label={texts.refused(label)}>{refused && <Notice error={refused} />}</Dialog>
      </Sheet>
    </>
  )
}
