// The bar at the foot of the page: what is selected, and what can be done with it.
import styled from 'styled-components'
import type { FileEntry } from '../api/client'
import { saveEach, useBundle } from '../data/files'
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
  padding: 0.6rem 1.6rem 0.8rem;
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
  const bundle = useBundle()
  const files = entries.filter((entry) => !entry.folder)
  const folders = entries.length - files.length
  const size = files.reduce((sum, file) => sum + (file.size ?? 0), 0)
  const inexact = files.some((file) => file.size === null) || folders > 0

  return (
    <Bar aria-label="Selection">
      <Inner>
        {bundle.error && <Notice error={bundle.error} />}
        <Row>
          <p aria-live="polite">
            <b>{summary(files.length, folders)}</b>
            {files.length > 0 && ` · ${inexact ? 'at least ' : ''}${sizeText(size)}`}
            {bundle.data &&
              ` · archive of ${countText(bundle.data.entries ?? 0, 'file', 'files')}, ${sizeText(bundle.data.size)}`}
          </p>
          <Button onPress={clear}>Clear</Button>
          <Button isDisabled={folders > 0} onPress={() => void saveEach(files.map((file) => file.address))}>
            Download each
          </Button>
          <MainButton
            isDisabled={bundle.isPending}
            onPress={() => bundle.mutate(entries.map((entry) => entry.address))}
          >
            {bundle.isPending ? preparing(bundle.files) : 'Download as one archive'}
          </MainButton>
        </Row>
      </Inner>
    </Bar>
  )
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
