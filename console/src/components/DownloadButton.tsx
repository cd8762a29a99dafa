import { Button as AriaButton } from 'react-aria-components'
import styled from 'styled-components'
import { save } from '../data/files'
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

/** Has the browser fetch what a path delivers. */
export function DownloadButton({ label, path }: { label: string; path: string }) {
  return (
    <Small aria-label={label} onPress={() => save(path)}>
      <Icon of="save" />
    </Small>
  )
}
