import { useNavigate, useParams } from '@tanstack/react-router'
import { useState } from 'react'
import { TableBody, TableHeader, type Selection } from 'react-aria-components'
import styled from 'styled-components'
import { deliveryPath, type FileEntry } from '../api/client'
import { save, useFolder } from '../data/files'
import { Button } from '../parts/Button'
import { sizeText, timeText } from '../parts/format'
import { Icon } from '../parts/Icon'
import { Notice } from '../parts/Notice'
import { Save } from '../parts/Save'
import { Empty, Field, Frame, Head, Line, Table } from '../parts/Table'
import { Tick } from '../parts/Tick'
import { Chosen } from './Chosen'
import { Versions } from './Versions'
import { Way } from './Way'

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
      <Way folder={folder} />
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
                <Tick />
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
      {chosen.length > 0 && <Chosen entries={chosen} clear={() => setSelected(new Set())} />}
    </>
  )
}

function Entry({ entry, selectable }: { entry: FileEntry; selectable: boolean }) {
  return (
    <Line id={entry.address} textValue={entry.name}>
      {selectable && (
        <Field>
          <Tick />
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
          <Save label={`Download ${entry.name}`} path={deliveryPath(entry.address)} />
        )}
      </Field>
    </Line>
  )
}
