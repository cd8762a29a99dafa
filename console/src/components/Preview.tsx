// What a file looks like: an image, a text, a table, a document; nothing in it can do anything here.
import styled from 'styled-components'
import { deliveryPath, type FileEntry } from '../api/client'
import { kindOf, ROWS, rowsOf, SHOWN, usePreview } from '../data/preview'
import { useTexts } from '../texts'
import { token } from '../theme'
import { sizeText } from './format'
import { Notice } from './Notice'

const Picture = styled.img`
  display: block;
  max-width: 100%;
  max-height: 22rem;
  margin: 0.4rem 0;
  border: 1px solid ${token.line};
  background: repeating-conic-gradient(#bbb 0 25%, #ddd 0 50%) 0 0 / 16px 16px;
`

const Text = styled.pre`
  max-height: 20rem;
  margin: 0.4rem 0;
  padding: 0.6rem 0.8rem;
  overflow: auto;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.ground};
  font-size: ${token.type.small};
`

const Box = styled.div`
  max-height: 20rem;
  margin: 0.4rem 0;
  overflow: auto;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  table {
    border-collapse: collapse;
    font-size: ${token.type.small};
    font-variant-numeric: tabular-nums;
  }
  th,
  td {
    padding: 0.15rem 0.6rem;
    border-bottom: 1px solid ${token.line};
    text-align: left;
    white-space: nowrap;
  }
  th {
    position: sticky;
    top: 0;
    background: ${token.surface};
  }
`

const Document = styled.iframe`
  width: 100%;
  height: 24rem;
  margin: 0.4rem 0;
  border: 1px solid ${token.line};
`

const Quiet = styled.p`
  margin: 0;
  color: ${token.quiet};
  font-size: ${token.type.small};
`

export function Preview({ file }: { file: FileEntry }) {
  const texts = useTexts().facts
  const kind = kindOf(file.media_type)
  const inline = `${deliveryPath(file.address)}?as=inline`
  if (kind === null) return <Quiet>{texts.noPreview}</Quiet>
  if (kind === 'image') {
    const small = file.renditions?.[0]
    return <Picture src={small ? `${inline}&rendition=${small}` : inline} alt={texts.previewOf(file.name)} />
  }
  if (kind === 'pdf') return <Document src={inline} title={texts.previewOf(file.name)} />
  return <Words file={file} isTable={kind === 'table'} />
}

function Words({ file, isTable }: { file: FileEntry; isTable: boolean }) {
  const texts = useTexts()
  const { data, error } = usePreview(file, true)
  if (error) return <Notice error={error} />
  if (data === undefined) return <Quiet role="status">{texts.common.looking}</Quiet>
  const cut = file.size !== null && file.size !== undefined ? file.size > SHOWN : data.length >= SHOWN
  return (
    <>
      {isTable ? (
        <Sheet rows={rowsOf(data, cut)} label={texts.facts.previewOf(file.name)} />
      ) : (
        // A text that scrolls has to be reached by the keyboard.

        <Text tabIndex={0} aria-label={texts.facts.previewOf(file.name)} role="region">
          {data}
        </Text>
      )}
      {cut && <Quiet>{texts.facts.previewCut(sizeText(SHOWN), sizeText(file.size))}</Quiet>}
    </>
  )
}

function Sheet({ rows, label }: { rows: string[][]; label: string }) {
  const [head, ...body] = rows
  const texts = useTexts().facts
  return (
    <>
      {}
      <Box tabIndex={0} role="region" aria-label={label}>
        <table>
          <thead>
            <tr>
              {head?.map((cell, place) => (
                <th key={place} scope="col">
                  {cell}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {body.slice(0, ROWS).map((row, place) => (
              <tr key={place}>
                {row.map((cell, at) => (
                  <td key={at}>{cell}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Box>
      {body.length > ROWS && <Quiet>{texts.rows(ROWS)}</Quiet>}
    </>
  )
}
