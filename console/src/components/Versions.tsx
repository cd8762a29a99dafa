import { useId } from 'react'
import { Button as AriaButton, DialogTrigger, Heading, Popover } from 'react-aria-components'
import styled from 'styled-components'
import { deliveryPath, type FileEntry, type Version } from '../api/client'
import { useRenew, useVersions } from '../data/files'
import { Button } from './Button'
import { sizeText, timeText } from './format'
import { Hidden } from './Hidden'
import { Notice } from './Notice'
import { DownloadButton } from './DownloadButton'
import { useTexts } from '../texts'
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

const Again = styled(Newest)`
  display: block;
  margin-top: 0.2rem;
`

/** Which version of a file is the newest, and the others on demand. */
export default function Versions({ entry }: { entry: FileEntry }) {
  const title = useId()
  const texts = useTexts().files
  if (!entry.version) return null
  return (
    <DialogTrigger>
      <Newest>
        {texts.version(entry.version)}
        <Hidden>{texts.showAllOf(entry.name)}</Hidden>
      </Newest>
      <Sheet placement="bottom start" aria-labelledby={title}>
        <Title id={title} level={2}>
          {texts.versionsOf(entry.name)}
        </Title>
        <AllVersions address={entry.address} name={entry.name} />
      </Sheet>
    </DialogTrigger>
  )
}

export function AllVersions({ address, name }: { address: string; name: string }) {
  const { versions, error, isPending, hasNextPage, fetchNextPage } = useVersions(address)
  const texts = useTexts().common
  if (error) return <Notice error={error} />
  if (isPending) return <>{texts.looking}</>
  return (
    <>
      <List>
        {versions.map((version) => (
          <One key={version.version} address={address} name={name} version={version} />
        ))}
      </List>
      {hasNextPage && <Button onPress={() => void fetchNextPage()}>{texts.readMore}</Button>}
    </>
  )
}

function One({ address, name, version }: { address: string; name: string; version: Version }) {
  const texts = useTexts().files
  const renew = useRenew(address)
  return (
    <Row>
      <span>
        {version.version}
        {version.current && texts.newest}
      </span>
      <span>{sizeText(version.size)}</span>
      <span>
        {timeText(version.put)}
        {version.by && texts.by(version.by)}
        {!version.current && version.may.includes('put') && version.may.includes('read') && (
          <Again
            aria-label={texts.makeNewestOf(version.version)}
            isDisabled={renew.isPending}
            onPress={() => renew.mutate({ version: version.version })}
          >
            {texts.makeNewest}
          </Again>
        )}
        {renew.error && <Notice error={renew.error} />}
      </span>
      {version.may.includes('read') && (
        <DownloadButton
          label={texts.downloadVersion(version.version, name)}
          path={deliveryPath(address, version.version)}
        />
      )}
    </Row>
  )
}
