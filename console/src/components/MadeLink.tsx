// A link that was made: as an address, as a page for a person, and as a code for a telephone.
import { QRCodeSVG } from 'qrcode.react'
import styled from 'styled-components'
import { pickupPath } from '../api/client'
import { useTexts } from '../texts'
import { token } from '../theme'
import { CopyButton } from './CopyButton'

const Made = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 1rem 1.5rem;
  margin-top: 1rem;
  padding: 0.8rem 1rem;
  border-left: 4px solid ${token.good};
  background: ${token.wash};
  code {
    display: block;
    margin: 0.2rem 0 0.6rem;
    overflow-wrap: anywhere;
  }
`

const Addresses = styled.div`
  flex: 1 1 20rem;
  min-width: 0;
`

const Code = styled(QRCodeSVG)`
  padding: 8px;
  background: #ffffff;
`

const LONGEST = 1200 // characters of an address that a code holds so that a telephone reads it

export function MadeLink({ url }: { url: string }) {
  const texts = useTexts().links.form
  const page = pickupPath(url)
  return (
    <Made role="status">
      <Addresses>
        {texts.theLink} <CopyButton text={url} words={texts.copyLink} />
        <code>{url}</code>
        {texts.asPage} <CopyButton text={page} words={texts.copyPage} />
        <code>{page}</code>
      </Addresses>
      {page.length < LONGEST && <Code value={page} size={148} title={texts.code} role="img" />}
    </Made>
  )
}
