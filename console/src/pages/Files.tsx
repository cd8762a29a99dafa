import { useNavigate, useParams } from '@tanstack/react-router'
import { memo, useState } from 'react'
import { Collection, TableBody, TableHeader, TableLoadMoreItem, type Selection } from 'react-aria-components'
import styled from 'styled-components'
import { deliveryPath, type FileEntry } from '../api/client'
import { Breadcrumb } from '../components/Breadcrumb'
import { DownloadButton } from '../components/DownloadButton'
import { countText, sizeText, timeText } from '../components/format'
import { Hidden } from '../components/Hidden'
import { Icon } from '../components/Icon'
import { Notice } from '../components/Notice'
import { SelectionBar } from '../components/SelectionBar'
import { SelectionCheckbox } from '../components/SelectionCheckbox'
import { Empty, Field, Head, Line, Table } from '../components/Table'
import { save } from '../data/downloads'
import { useFolder } from '../data/files'
import { useNarrow } from '../data/narrow'
import { usePage } from '../data/page'
import { Versions } from './Versions'

const Named = styled.span`
  display: grid;
  grid-template-columns: auto 1fr;
  align-items: start;
  gap: 0.6rem;
  button {
    margin-left: 0.6rem;
  }
`

const Quiet = styled.p`
  margin: 0.5rem 0 0;
  color: var(--quiet);
`

export function Files() {
  const { _splat: path = '' } = useParams({ from: '/files/$' })
  // The router drops the last slash, which is what makes an address a folder's.
  const folder = path && !path.endsWith('/') ? path + '/' : path
  // A new folder begins with nothing selected.
  return <Folder key={folder} folder={folder} />
}

function Folder({ folder }: { folder: string }) {
  const { entries, error, isPending, isFetchingNextPage, hasNextPage, fetchNextPage } = useFolder(
    folder || null,
  )
  const [selected, setSelected] = useState<Set<string>>(new Set())
  const [refused, setRefused] = useState<Error | null>(null)
  const navigate = useNavigate()
  const narrow = useNarrow()
  const heading = usePage(folder ? `Files in ${folder}` : 'Stores')
  const notHad = entries.filter((entry) => !mayHave(entry)).map((entry) => entry.address)

  function open(address: string) {
    setRefused(null)
    if (address.endsWith('/')) void navigate({ to: '/files/$', params: { _splat: address } })
    else save(deliveryPath(address), setRefused)
  }

  // All is all that is there now: what comes later was not meant.
  function select(keys: Selection) {
    const all = entries.filter(mayHave).map((entry) => entry.address)
    setSelected(keys === 'all' ? new Set(all) : new Set([...keys].map(String)))
  }

  const chosen = entries.filter((entry) => selected.has(entry.address))
  return (
    <>
      <Hidden as="h1" {...heading}>
        {folder ? `Files in ${folder}` : 'Stores'}
      </Hidden>
      <Breadcrumb folder={folder} />
      {error && <Notice error={error} />}
      {refused && <Notice error={refused} />}
      <Table
        aria-label={folder ? `Files in ${folder}` : 'Stores'}
        selectionMode={folder ? 'multiple' : 'none'}
        selectedKeys={selected}
        disabledKeys={notHad}
        onSelectionChange={select}
        onRowAction={(key) => open(String(key))}
      >
        <TableHeader>
          {folder && (
            <Head width={44} minWidth={44}>
              <SelectionCheckbox />
            </Head>
          )}
          <Head isRowHeader width="3fr" minWidth={150}>
            Name
          </Head>
          <Head $right width={narrow ? 84 : 130}>
            Size
          </Head>
          {!narrow && <Head width={165}>Changed</Head>}
          {!narrow && <Head width="2fr">Type</Head>}
          <Head width={60} minWidth={48}>
            <Hidden>Download</Hidden>
          </Head>
        </TableHeader>
        <TableBody
          renderEmptyState={() => (
            <Empty role="status">
              {isPending ? 'Looking …' : error ? 'This folder could not be loaded.' : 'Nothing here for you.'}
            </Empty>
          )}
        >
          <Collection items={entries} dependencies={[folder, narrow]}>
            {(entry) => <Entry entry={entry} selectable={Boolean(folder)} narrow={narrow} />}
          </Collection>
          {hasNextPage && (
            <TableLoadMoreItem onLoadMore={() => void fetchNextPage()} isLoading={isFetchingNextPage}>
              <Empty>Looking for more …</Empty>
            </TableLoadMoreItem>
          )}
        </TableBody>
      </Table>
      <Quiet role="status">
        {entries.length > 0 && countText(entries.length, 'entry', 'entries')}
        {hasNextPage && ' so far; more come as you scroll'}
      </Quiet>
      {chosen.length > 0 && <SelectionBar entries={chosen} clear={() => setSelected(new Set())} />}
    </>
  )
}

/** Whether there is anything to be done with an entry: a file may be listed for those who may not have it. */
function mayHave(entry: FileEntry): boolean {
  return entry.folder || Boolean(entry.may?.includes('read') || entry.may?.includes('bundle'))
}

type Row = { entry: FileEntry; selectable: boolean; narrow: boolean }

const Entry = memo(function Entry({ entry, selectable, narrow }: Row) {
  const size = entry.folder ? '' : entry.size === null ? 'made on demand' : sizeText(entry.size)
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
          <span>
            <bdi>{entry.folder ? `${entry.name}/` : entry.name}</bdi>
            <Versions entry={entry} />
            {!mayHave(entry) && <Hidden>You may see this file and not have it.</Hidden>}
          </span>
        </Named>
      </Field>
      <Field $right>{size}</Field>
      {!narrow && (
        <Field $quiet $whole>
          {timeText(entry.modified)}
        </Field>
      )}
      {!narrow && <Field $quiet>{entry.folder ? '' : entry.media_type}</Field>}
      <Field $right>
        {!entry.folder && entry.may?.includes('read') && (
          <DownloadButton label={`Download ${entry.name}`} path={deliveryPath(entry.address)} />
        )}
      </Field>
    </Line>
  )
})
