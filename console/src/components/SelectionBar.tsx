// The bar at the foot of the page: what is selected, here and elsewhere, and what can be done with it.
import { useState } from 'react'
import styled from 'styled-components'
import { deliveryPath, type Bundle, type FileEntry } from '../api/client'
import { saveEach } from '../data/downloads'
import { useBundle } from '../data/files'
import { useTexts } from '../texts'
import type { Texts } from '../texts/en'
import { token } from '../theme'
import { Button, MainButton } from './Button'
import { numberText, sizeText } from './format'
import { LeftOut } from './LeftOut'
import { Notice } from './Notice'

const Bar = styled.section`
  position: fixed;
  z-index: 2;
  inset: auto 0 0;
  border-top: 1px solid ${token.line};
  background: ${token.raised};
  box-shadow: 0 -4px 18px rgb(0 0 0 / 10%);
`

const Inner = styled.div`
  max-width: 84rem;
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

interface Given {
  entries: readonly FileEntry[]
  elsewhere: number // how many of them are in other folders
  clear: () => void
}

export default function SelectionBar({ entries, elsewhere, clear }: Given) {
  const texts = useTexts()
  const files = entries.filter((entry) => !entry.folder)
  const folders = entries.length - files.length
  const size = files.reduce((sum, file) => sum + (file.size ?? 0), 0)
  const inexact = files.some((file) => file.size === null) || folders > 0
  const addresses = entries.map((entry) => entry.address)

  return (
    <Bar aria-label={texts.selection.label}>
      <Inner>
        <p aria-live="polite">
          <b>{texts.selection.selected(counted(files.length, folders, texts))}</b>
          {files.length > 0 && ` · ${inexact ? texts.selection.atLeast : ''}${sizeText(size)}`}
          {elsewhere > 0 && ` · ${texts.selection.elsewhere(numberText(elsewhere))}`}
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

type Actions = { addresses: string[]; files: readonly FileEntry[]; clear: () => void }

function Actions({ addresses, files, clear }: Actions) {
  const bundle = useBundle()
  const texts = useTexts()
  const said = texts.selection
  const [begun, setBegun] = useState(0)
  const [refused, setRefused] = useState<Error | null>(null)
  const error = bundle.error ?? refused
  const left = bundle.data && !bundle.begun ? bundle.data.left_out : []
  const each = begun > 0 && begun < files.length

  return (
    <>
      {error && <Notice error={error} />}
      {bundle.data && left.length > 0 && (
        <LeftOut left={left}>
          {Boolean(bundle.data.entries) && (
            <Button onPress={() => bundle.fetchIt(bundle.data)}>{said.leaveOut}</Button>
          )}
        </LeftOut>
      )}
      <Row>
        <p role="status">
          {bundle.data && bundle.begun
            ? outcome(bundle.data, texts)
            : begun
              ? said.eachBegun(begun, files.length)
              : ''}
        </p>
        <Button onPress={clear}>{said.clear}</Button>
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
            {each ? said.eachRuns(begun, files.length) : said.each}
          </Button>
        )}
        <MainButton isPending={bundle.isPending} onPress={() => bundle.mutate(addresses)}>
          {bundle.isPending ? preparing(bundle.files, texts) : said.archive}
        </MainButton>
      </Row>
    </>
  )
}

function outcome(made: Bundle, { selection, common }: Texts): string {
  const left = made.left_out.length ? selection.leftOut(common.files(made.left_out.length)) : ''
  return selection.made(common.files(made.entries ?? 0), sizeText(made.size)) + left
}

function preparing(files: number, { selection, common }: Texts): string {
  return files ? selection.preparingFiles(common.files(files)) : selection.preparing
}

function counted(files: number, folders: number, { common }: Texts): string {
  const parts = []
  if (files) parts.push(common.files(files))
  if (folders) parts.push(common.folders(folders))
  return parts.join(common.and)
}
