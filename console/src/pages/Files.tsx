import { useNavigate, useParams } from '@tanstack/react-router'
import { useState } from 'react'
import { TableBody, TableHeader, type Selection } from 'react-aria-components'
import styled from 'styled-components'
import { deliveryPath, type FileEntry } from '../api/client'
import { save, useFolder } from '../data/files'
import { Button } from '../components/Button'
import { sizeText, timeText } from '../components/format'
import { Icon } from '../components/Icon'
import { Notice } from '../components/Notice'
import { DownloadButton } from '../components/DownloadButton'
import { Empty, Field, Frame, Head, Line, Table } from '../components/Table'
import { SelectionCheckbox } from '../components/SelectionCheckbox'
import { SelectionBar } from '../components/SelectionBar'
import { Versions } from './Versions'
import { Breadcrumb } from '../components/Breadcrumb'

const Named = styled.span`
  display: flex;
  align-items: center;
  gap: 0.6rem;
`

const More = styled.div`
  margin-top: 1rem;
  text-align: center;
`

export function Files() {
  const { _splat: path = '' } = useParams({ from: '/files/$' })
  // The router drops the last slash, which is what makes an address a folder's.
  const folder = path && !path.endsWith('/') ? path + '/' : path
  // A new folder begins with nothing selected.
  return <Folder key={folder} folder={folder} />
}

function Folder({ folder }: { folder: string }) {
  const { entries, error, isPending, hasNextPage, fetchNextPage } = useFolder(folder || null)
  const [selected, setSelected] = useState<Selection>(new Set())
  const navigate = useNavigate()

  function open(address: string) {
    if (address.endsWith('/')) void navigate({ to: '/files/$', params: { _splat: address } })
    else save(deliveryPath(address))
  }

  const chosen = entries.filter((entry) => selected === 'all' || selected.has(entry.address))
  return (
    <>
      <Breadcrumb folder={folder} />
      {error && <Notice error={error} />}
      <Frame>
        <Table
          aria-label={folder ? `Files in ${folder}` : 'Stores'}
          selectionMode={folder ? 'multiple' : 'none'}
          selectedKeys={selected}
          onSelectionChange={setSelected}
          onRowAction={(key) => open(String(key))}
        >
          <TableHeader>
            {folder && (
              <Head width={44}>
                <SelectionCheckbox />
              </Head>
            )}
            <Head isRowHeader>Name</Head>
            <Head $right>Size</Head>
            <Head>Changed</Head>
            <Head>Type</Head>
            <Head aria-label="Download" width={56} />
          </TableHeader>
          <TableBody
            items={entries}
            dependencies={[folder]}
            renderEmptyState={() => (
              <Empty>{isPending ? 'Looking …' : error ? '' : 'Nothing here for you.'}</Empty>
            )}
          >
            {(entry) => <Entry entry={entry} selectable={Boolean(folder)} />}
          </TableBody>
        </Table>
      </Frame>
      {hasNextPage && (
        <More>
          <Button onPress={() => void fetchNextPage()}>Show more</Button>
        </More>
      )}
      {chosen.length > 0 && <SelectionBar entries={chosen} clear={() => setSelected(new Set())} />}
    </>
  )
}

function Entry({ entry, selectable }: { entry: FileEntry; selectable: boolean }) {
  return (
    <Line id={entry.address} textValue={entry.name}>
      {selectable && (
        <Field>
          <SelectionCheckbox />
        </Field>
      )}
      <Field>
        <Named>
          <Icon of={entry.folder ? 'folder' : 'file'} />
          {entry.name}
          {entry.folder && '/'}
          <Versions entry={entry} />
        </Named>
      </Field>
      <Field $right>
        {entry.folder ? '' : entry.size === null ? 'made on demand' : sizeText(entry.size)}
      </Field>
      <Field $quiet>{timeText(entry.modified)}</Field>
      <Field $quiet>{entry.folder ? '' : entry.media_type}</Field>
      <Field $right>
        {!entry.folder && entry.may?.includes('read') && (
          <DownloadButton label={`Download ${entry.name}`} path={deliveryPath(entry.address)} />
        )}
      </Field>
    </Line>
  )
}
