import { lazy, Suspense, useRef, useState } from 'react'
import { Button as AriaButton } from 'react-aria-components'
import styled from 'styled-components'
import { save } from '../data/downloads'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Icon } from './Icon'

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

const RefusedSheet = lazy(() => import('./RefusedSheet'))

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
      {refused && (
        <Suspense fallback={null}>
          <RefusedSheet
            label={texts.refused(label)}
            error={refused}
            button={button}
            close={() => setRefused(null)}
          />
        </Suspense>
      )}
    </>
  )
}
