import { useNavigate, useParams, useSearch } from '@tanstack/react-router'
import { lazy, Suspense, useCallback, useMemo, useRef, useState } from 'react'
import { Input, Label, Link, SearchField, type Selection, type SortDescriptor } from 'react-aria-components'
import styled from 'styled-components'
import { deliveryPath, encoded, type FileEntry } from '../api/client'
import { root } from '../api/root'
import { Breadcrumb } from '../components/Breadcrumb'
import { DownloadButton } from '../components/DownloadButton'
import { sizeText } from '../components/format'
import { Hidden } from '../components/Hidden'
import { Icon } from '../components/Icon'
import { Notice } from '../components/Notice'
import { Rows } from '../components/Rows'
import type { ColumnOf } from '../components/rowsOf'
import { Time } from '../components/Time'
import { fieldLook } from '../components/fieldLook'
import { save } from '../data/downloads'
import { useFolder, type Sort } from '../data/files'
import { usePage } from '../data/page'
import { clearSelection, selectHere, useSelection } from '../data/selection'
import { useMe } from '../data/session'
import { useSame } from '../data/stable'
import { useTexts } from '../texts'
import type { Texts } from '../texts/en'
import { token } from '../theme'
import { shown } from '../data/shown'
import { SafeText } from '../components/SafeText'

// What is not there at first is loaded when it is wanted.
const FilePanel = lazy(() => import('../components/FilePanel'))
const PutFiles = lazy(() => import('../components/PutFiles'))
const SelectionBar = lazy(() => import('../components/SelectionBar'))
const Versions = lazy(() => import('../components/Versions'))

const PAUSE = 250 // milliseconds

const Top = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  justify-content: space-between;
  gap: 0 1rem;
  margin-bottom: 0.8rem;
`

const Search = styled(SearchField)`
  ${fieldLook}
  min-width: min(18rem, 100%);
`

const Beside = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: 1.2rem;
  align-items: start;
  @media (min-width: 64rem) {
    &[data-open] {
      grid-template-columns: minmax(0, 1fr) minmax(20rem, 27rem);
    }
  }
`

const Named = styled.span`
  display: grid;
  grid-template-columns: auto 1fr;
  align-items: start;
  gap: 0.6rem;
  button {
    margin-left: 0.6rem;
  }
  a {
    color: inherit;
    text-decoration: none;
  }
  a:hover {
    text-decoration: underline;
  }
`

const About = styled.span`
  display: -webkit-box;
  overflow: hidden;
  -webkit-box-orient: vertical;
  -webkit-line-clamp: 2;
  color: ${token.quiet};
  font-size: ${token.type.small};
`

const Cut = styled.span`
  display: block;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
`

const Quiet = styled.p`
  margin: 0.5rem 0 0;
  color: ${token.quiet};
`

export function Files() {
  const { _splat: path = '' } = useParams({ from: '/files/$' })
  // The router drops the last slash, which is what makes an address a folder's.
  const folder = path && !path.endsWith('/') ? path + '/' : path
  return <Folder key={folder} folder={folder} />
}

function Folder({ folder }: { folder: string }) {
  const texts = useTexts()
  const { show, search = '', sort = 'name' } = useSearch({ from: '/files/$' })
  const wanted = search.trim()
  const found = useFolder(folder || null, folder ? wanted : '', sort)
  const { entries, error, isPending, more } = found
  const selected = useSelection()
  const navigate = useNavigate({ from: '/files/$' })
  const [refused, setRefused] = useState<Error | null>(null)
  const me = useMe().data
  const title = texts.files.title(folder)
  const heading = usePage(title)
  const columns = useMemo(() => columnsOf(folder, texts), [folder, texts])
  const disabled = useSame(
    useMemo(() => entries.filter((entry) => !mayHave(entry)).map(addressOf), [entries]),
    itself,
  )
  const here = useMemo(() => new Set([...selected.keys()]), [selected])
  const recipient = Boolean(me?.recipient)

  const look = useCallback(
    (what: { show?: string | undefined; search?: string | undefined; sort?: Sort | undefined }) => {
      void navigate({ search: (before) => ({ ...before, ...what }), replace: what.show === undefined })
    },
    [navigate],
  )

  // What the table is given stays the same objects, so that it is drawn again for its rows and not for each letter.
  const open = useCallback(
    (address: string) => {
      setRefused(null)
      if (address.endsWith('/')) void navigate({ to: '/files/$', params: { _splat: address }, search: {} })
      else if (recipient) look({ show: address })
      else save(deliveryPath(address), setRefused)
    },
    [look, navigate, recipient],
  )
  const selection = useMemo(
    () =>
      folder
        ? {
            selected: here,
            disabled,
            // All is all that is there now: what comes later was not meant.
            onChange: (keys: Selection) => {
              const all = entries.filter(mayHave).map((entry) => entry.address)
              selectHere(entries, keys === 'all' ? new Set(all) : new Set([...keys].map(String)))
            },
          }
        : undefined,
    [disabled, entries, folder, here],
  )
  const sorted = useMemo(() => (folder ? descriptorOf(sort) : undefined), [folder, sort])
  const onSort = useCallback((by: SortDescriptor) => look({ sort: sortOf(by) }), [look])

  const chosen = [...selected.values()]
  const elsewhere = chosen.filter((entry) => parentOf(entry.address) !== folder).length
  return (
    <>
      <Hidden as="h1" {...heading}>
        {title}
      </Hidden>
      <Top>
        <Breadcrumb folder={folder} />
        {folder && (
          <SearchBox first={search} onSearch={(text) => look({ search: text.trim() || undefined })} />
        )}
      </Top>
      {error && <Notice error={error} />}
      {refused && <Notice error={refused} />}
      <Beside {...(show && { 'data-open': true })}>
        <div>
          <Rows
            label={title}
            columns={columns}
            rows={entries}
            idOf={addressOf}
            textOf={nameOf}
            empty={
              entries.length
                ? ''
                : isPending
                  ? texts.common.looking
                  : error
                    ? texts.files.notLoaded
                    : wanted
                      ? texts.files.nothingFound
                      : texts.files.nothing
            }
            onOpen={open}
            selection={selection}
            sort={sorted}
            onSort={onSort}
            more={more}
          />
          <Quiet role="status">
            {entries.length > 0 && texts.common.entries(entries.length)}
            {more.has && texts.files.soFar}
          </Quiet>
          <Suspense fallback={null}>{found.data?.pages[0]?.puts && <PutFiles folder={folder} />}</Suspense>
        </div>
        <Suspense fallback={null}>
          {show && <FilePanel address={show} close={() => look({ show: undefined })} />}
        </Suspense>
      </Beside>
      <Suspense fallback={null}>
        {chosen.length > 0 && <SelectionBar entries={chosen} elsewhere={elsewhere} clear={clearSelection} />}
      </Suspense>
    </>
  )
}

/** What is typed is its own: the list is drawn again when somebody has stopped typing, and not for each letter. */
function SearchBox({ first, onSearch }: { first: string; onSearch: (text: string) => void }) {
  const said = useTexts().files
  const [text, setText] = useState(first)
  const typing = useRef<ReturnType<typeof setTimeout>>(undefined)
  return (
    <Search
      value={text}
      onChange={(value) => {
        setText(value)
        clearTimeout(typing.current)
        typing.current = setTimeout(() => onSearch(value), PAUSE)
      }}
    >
      <Label>{said.search}</Label>
      <Input spellCheck={false} />
    </Search>
  )
}

/** Whether there is anything to be done with an entry: a file may be listed for those who may not have it. */
function mayHave(entry: FileEntry): boolean {
  return entry.folder || Boolean(entry.may?.includes('read') || entry.may?.includes('bundle'))
}

const itself = (address: string) => address
const addressOf = (entry: FileEntry) => entry.address
const nameOf = (entry: FileEntry) => (entry.folder ? `${entry.name}/` : entry.name)

function parentOf(address: string): string {
  const place = address.replace(/\/$/, '').lastIndexOf('/')
  return address.slice(0, place + 1)
}

function descriptorOf(sort: Sort): SortDescriptor {
  const column = sort.replace(/^-/, '')
  return { column, direction: sort.startsWith('-') ? 'descending' : 'ascending' }
}

function sortOf({ column, direction }: SortDescriptor): Sort | undefined {
  const by = `${direction === 'descending' ? '-' : ''}${String(column)}` as Sort
  return by === 'name' ? undefined : by
}

function columnsOf(folder: string, texts: Texts): ColumnOf<FileEntry>[] {
  const { files } = texts
  const sorts = Boolean(folder)
  return [
    {
      id: 'name',
      name: files.name,
      width: '3fr',
      minWidth: 150,
      sorts,
      cell: (entry) => <Name entry={entry} folder={folder} />,
    },
    {
      id: 'size',
      name: files.size,
      width: 130,
      right: true,
      sorts,
      hidesName: false,
      line: true,
      cell: (entry) => (entry.folder ? '' : entry.size === null ? files.onDemand : sizeText(entry.size)),
    },
    {
      id: 'modified',
      name: files.changed,
      width: 165,
      quiet: true,
      whole: true,
      sorts,
      line: true,
      cell: (entry) => <Time at={entry.modified} />,
    },
    {
      id: 'type',
      name: files.type,
      width: '2fr',
      quiet: true,
      sorts,
      line: true,
      cell: (entry) => !entry.folder && <Cut title={entry.media_type ?? undefined}>{entry.media_type}</Cut>,
    },
    {
      id: 'download',
      name: texts.common.download,
      width: 60,
      minWidth: 48,
      right: true,
      hidesName: true,
      card: 'end',
      line: true,
      cell: (entry) =>
        !entry.folder &&
        entry.may?.includes('read') && (
          <DownloadButton label={files.downloadOf(entry.name)} path={deliveryPath(entry.address)} />
        ),
    },
  ]
}

/** The page of a folder, or of a file beside its folder. */
function placeOf(entry: FileEntry, folder: string): string {
  if (entry.folder) return `${root}/console/files/${encoded(entry.address)}`
  return `${root}/console/files/${encoded(folder)}?show=${encodeURIComponent(entry.address)}`
}

function Name({ entry, folder }: { entry: FileEntry; folder: string }) {
  const texts = useTexts().files
  const signedIn = Boolean(useMe().data?.recipient)
  const said = entry.folder ? `${entry.name}/` : entry.name
  const below = folder ? entry.address.slice(folder.length) : said
  return (
    <Named>
      <Icon of={entry.folder ? 'folder' : 'file'} />
      <span>
        {/* What was found deeper is told with its folder. */}
        {entry.folder || signedIn ? (
          <Link href={placeOf(entry, folder)}>
            <SafeText>{below.length > said.length ? below : said}</SafeText>
          </Link>
        ) : (
          <SafeText>{said}</SafeText>
        )}
        <Suspense fallback={null}>{entry.version && <Versions entry={entry} />}</Suspense>
        {!mayHave(entry) && <Hidden>{texts.seenOnly}</Hidden>}
        {entry.description && <About>{shown(entry.description)}</About>}
      </span>
    </Named>
  )
}
