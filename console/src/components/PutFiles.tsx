// Putting files into a folder: by drag and drop or from a file picker, with progress, cancel and retry.
import { memo } from 'react'
import { useQueryClient } from '@tanstack/react-query'
import { DropZone, FileTrigger, isFileDropItem, ProgressBar } from 'react-aria-components'
import styled from 'styled-components'
import {
  again,
  cancel,
  cancelAll,
  clearEnded,
  isThere,
  put,
  runs,
  useUploads,
  type Upload,
} from '../data/uploads'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Button } from './Button'
import { numberText, sizeText } from './format'
import { Notice } from './Notice'
import { SafeText } from './SafeText'

const Zone = styled(DropZone)`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem 0.8rem;
  margin: 0.8rem 0;
  padding: 0.6rem 1rem;
  border: 1.5px dashed ${token.quiet};
  border-radius: ${token.radius};
  color: ${token.quiet};
  &[data-drop-target] {
    border-color: ${token.accent};
    background: ${token.wash};
  }
`

const List = styled.ul`
  margin: 0.4rem 0;
  padding: 0;
  list-style: none;
  max-height: 24rem;
  overflow-y: auto;
`

const Foot = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem 0.8rem;
  margin: 0 0 0.8rem;
`

const One = styled.li`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto auto;
  align-items: center;
  gap: 0.2rem 0.8rem;
  padding: 0.35rem 0;
  border-bottom: 1px solid ${token.line};
  span {
    overflow-wrap: anywhere;
  }
  & > div[role='progressbar'],
  & > div[role='alert'] {
    grid-column: 1 / -1;
  }
`

const Track = styled.div`
  height: 6px;
  border-radius: 3px;
  background: color-mix(in srgb, ${token.line} 60%, transparent);
  overflow: hidden;
  div {
    height: 100%;
    background: ${token.accent};
  }
  @media (forced-colors: active) {
    border: 1px solid CanvasText;
    div {
      forced-color-adjust: none;
      background: Highlight;
    }
  }
`

export default function PutFiles({ folder }: { folder: string }) {
  const texts = useTexts().put
  const queries = useQueryClient()
  return (
    <>
      <Zone
        aria-label={texts.title}
        onDrop={(event) =>
          void Promise.all(event.items.filter(isFileDropItem).map((item) => item.getFile())).then((files) =>
            put(folder, files, queries),
          )
        }
      >
        <span>{texts.drop}</span>
        <FileTrigger
          allowsMultiple
          onSelect={(files) => {
            if (files) put(folder, [...files], queries)
          }}
        >
          <Button>{texts.choose}</Button>
        </FileTrigger>
      </Zone>
      <Uploads />
    </>
  )
}

function Uploads() {
  const texts = useTexts().put
  const uploads = useUploads()
  if (!uploads.length) return null
  const ended = uploads.filter((upload) => !runs(upload)).length
  const arrived = uploads.filter((upload) => upload.state === 'done').length
  return (
    <>
      <List tabIndex={0} aria-label={texts.title}>
        {uploads.map((upload) => (
          <Line key={upload.id} upload={upload} />
        ))}
      </List>
      <Foot>
        {uploads.length > 1 && (
          <span>{texts.arrivedOf(numberText(arrived), numberText(uploads.length))}</span>
        )}
        {ended > 0 && <Button onPress={clearEnded}>{texts.clear}</Button>}
        {ended < uploads.length - 1 && <Button onPress={cancelAll}>{texts.cancelAll}</Button>}
      </Foot>
    </>
  )
}

// Of many, only those that change are drawn.
const Line = memo(function Line({ upload }: { upload: Upload }) {
  const texts = useTexts().put
  const name = upload.file.name
  const words = upload.state === 'done' && upload.version ? texts.sentAs(upload.version) : texts[upload.state]
  return (
    <One>
      <span>
        <SafeText>{upload.address}</SafeText>
      </span>
      <span role="status">
        {words}
        {upload.state === 'sending' && ` · ${sizeText(upload.sent)} / ${sizeText(upload.file.size)}`}
      </span>
      {runs(upload) ? (
        <Button aria-label={texts.cancelOf(name)} onPress={() => cancel(upload.id)}>
          ✕
        </Button>
      ) : (
        (upload.state === 'failed' || upload.state === 'cancelled') && (
          <Button
            aria-label={isThere(upload) ? texts.replaceOf(name) : texts.retryOf(name)}
            onPress={() => again(upload.id, isThere(upload))}
          >
            {isThere(upload) ? texts.replace : texts.retry}
          </Button>
        )
      )}
      {upload.state === 'sending' && (
        <ProgressBar
          aria-label={texts.progressOf(name)}
          value={upload.file.size ? (100 * upload.sent) / upload.file.size : 100}
        >
          {({ percentage = 0 }) => (
            <Track>
              <div style={{ width: `${percentage}%` }} />
            </Track>
          )}
        </ProgressBar>
      )}
      {upload.error &&
        (isThere(upload) ? <div role="alert">{texts.exists}</div> : <Notice error={upload.error} />)}
    </One>
  )
})
