// The bar at the foot of the page: what is selected, and what can be done with it.
import { useState } from 'react'
import styled from 'styled-components'
import { deliveryPath, type Bundle, type FileEntry } from '../api/client'
import { Refused } from '../api/problems'
import { saveEach } from '../data/downloads'
import { useBundle } from '../data/files'
import { Button, MainButton } from './Button'
import { countText, sizeText } from './format'
import { Notice } from './Notice'
import { token } from '../theme'

const Bar = styled.section`
  position: fixed;
  inset: auto 0 0;
  border-top: 1px solid ${token.line};
  background: ${token.raised};
  box-shadow: 0 -4px 18px rgb(0 0 0 / 10%);
`

const Inner = styled.div`
  max-width: 76rem;
  margin: 0 auto;
  max-height: 60vh;
  overflow: auto;
  padding: 0.6rem 1.6rem 0.8rem;
  & > p {
    margin: 0 0 0.35rem;
  }
`

const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.8rem;
  p {
    flex: 1;
    margin: 0;
  }
`

export function SelectionBar({ entries, clear }: { entries: FileEntry[]; clear: () => void }) {
  const files = entries.filter((entry) => !entry.folder)
  const folders = entries.length - files.length
  const size = files.reduce((sum, file) => sum + (file.size ?? 0), 0)
  const inexact = files.some((file) => file.size === null) || folders > 0
  const addresses = entries.map((entry) => entry.address)

  return (
    <Bar aria-label="Selection">
      <Inner>
        <p aria-live="polite">
          <b>{summary(files.length, folders)}</b>
          {files.length > 0 && ` · ${inexact ? 'at least ' : ''}${sizeText(size)}`}
        </p>
        {/* Another selection is another archive: what was said of the last one is not said of it. */}
        <Actions
          key={addresses.join('\n')}
          addresses={addresses}
          files={folders ? [] : files}
          clear={clear}
        />
      </Inner>
    </Bar>
  )
}

type Actions = { addresses: string[]; files: FileEntry[]; clear: () => void }

function Actions({ addresses, files, clear }: Actions) {
  const bundle = useBundle()
  const [begun, setBegun] = useState(0)
  const [refused, setRefused] = useState<Error | null>(null)
  const error = bundle.error ?? refused
  const leavable = bundle.error instanceof Refused && bundle.error.reason === 'bad-selection'
  const each = begun > 0 && begun < files.length

  return (
    <>
      {error && (
        <Notice error={error}>
          {leavable && (
            <Button onPress={() => bundle.mutate({ addresses, leaveOut: true })}>
              Leave these out and go on
            </Button>
          )}
        </Notice>
      )}
      <Row>
        <p role="status">{bundle.data ? outcome(bundle.data) : begun ? asked(begun, files.length) : ''}</p>
        <Button onPress={clear}>Clear</Button>
        {files.length > 0 && (
          <Button
            isDisabled={each}
            onPress={() =>
              void saveEach(
                files.map((file) => deliveryPath(file.address)),
                setRefused,
                setBegun,
              )
            }
          >
            {each ? `Downloading ${begun} of ${files.length}` : 'Download each'}
          </Button>
        )}
        <MainButton
          isPending={bundle.isPending}
          onPress={() => bundle.mutate({ addresses, leaveOut: false })}
        >
          {bundle.isPending ? preparing(bundle.files) : 'Download as one archive'}
        </MainButton>
      </Row>
    </>
  )
}

function outcome(made: Bundle): string {
  const left = made.left_out.length ? `, ${countText(made.left_out.length, 'file', 'files')} left out` : ''
  return `Archive of ${countText(made.entries ?? 0, 'file', 'files')}, ${sizeText(made.size)}${left}`
}

function asked(begun: number, of: number): string {
  return `${begun} of ${of} downloads begun; your browser may ask whether to allow several`
}

function preparing(files: number): string {
  return files ? `Preparing, ${countText(files, 'file', 'files')} …` : 'Preparing …'
}

function summary(files: number, folders: number): string {
  const parts = []
  if (files) parts.push(countText(files, 'file', 'files'))
  if (folders) parts.push(countText(folders, 'folder', 'folders'))
  return `${parts.join(' and ')} selected`
}
