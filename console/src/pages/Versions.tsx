import { useId } from 'react'
import { Button as AriaButton, DialogTrigger, Heading, Popover } from 'react-aria-components'
import styled from 'styled-components'
import { deliveryPath, type FileEntry, type Version } from '../api/client'
import { useVersions } from '../data/files'
import { Button } from '../components/Button'
import { sizeText, timeText } from '../components/format'
import { Hidden } from '../components/Hidden'
import { Notice } from '../components/Notice'
import { DownloadButton } from '../components/DownloadButton'
import { token } from '../theme'

const Newest = styled(AriaButton)`
  padding: 0 0.5rem;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: transparent;
  color: ${token.quiet};
  font: 0.82rem/1.6 ${token.sans};
  cursor: pointer;
  &[data-hovered] {
    background: ${token.wash};
    color: ${token.ink};
  }
`

const Sheet = styled(Popover)`
  min-width: min(22rem, 92vw);
  max-height: 24rem;
  overflow: auto;
  padding: 1rem 1.1rem;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.raised};
  color: ${token.ink};
  box-shadow: 0 8px 28px rgb(0 0 0 / 18%);
`

const Title = styled(Heading)`
  margin: 0 0 0.6rem;
  font: 600 1.05rem/1.3 ${token.serif};
`

const List = styled.ul`
  margin: 0 0 0.4rem;
  padding: 0;
  list-style: none;
`

const Row = styled.li`
  display: grid;
  grid-template-columns: minmax(4rem, 7.5rem) 4.5rem 1fr auto;
  gap: 0.8rem;
  align-items: center;
  padding: 0.3rem 0;
  border-top: 1px solid ${token.line};
  & > span + span {
    color: ${token.quiet};
  }
`

/** Which version of a file is the newest, and the others on demand. */
export function Versions({ entry }: { entry: FileEntry }) {
  const title = useId()
  if (!entry.version) return null
  return (
    <DialogTrigger>
      <Newest>
        version {entry.version}
        <Hidden> of {entry.name}: show all</Hidden>
      </Newest>
      <Sheet placement="bottom start" aria-labelledby={title}>
        <Title id={title} level={2}>
          Versions of {entry.name}
        </Title>
        <All address={entry.address} name={entry.name} />
      </Sheet>
    </DialogTrigger>
  )
}

function All({ address, name }: { address: string; name: string }) {
  const { versions, error, isPending, hasNextPage, fetchNextPage } = useVersions(address)
  if (error) return <Notice error={error} />
  if (isPending) return <>Looking …</>
  return (
    <>
      <List>
        {versions.map((version) => (
          <One key={version.version} address={address} name={name} version={version} />
        ))}
      </List>
      {hasNextPage && <Button onPress={() => void fetchNextPage()}>Show more</Button>}
    </>
  )
}

function One({ address, name, version }: { address: string; name: string; version: Version }) {
  return (
    <Row>
      <span>
        {version.version}
        {version.current && ', the newest'}
      </span>
      <span>{sizeText(version.size)}</span>
      <span>
        {timeText(version.put)}
        {version.by && ` by ${version.by}`}
      </span>
      {version.may.includes('read') && (
        <DownloadButton
          label={`Download version ${version.version} of ${name}`}
          path={deliveryPath(address, version.version)}
        />
      )}
    </Row>
  )
}
