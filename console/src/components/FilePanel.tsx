// What is known of one file, beside the list: facts, preview, who may have it, and what can be done with it.
import { Link } from '@tanstack/react-router'
import { useEffect, useRef, useState, type SubmitEvent } from 'react'
import styled from 'styled-components'
import { deliveryPath, type FileEntry } from '../api/client'
import { save } from '../data/downloads'
import { useAudience, useFile, useRemove, useRenew } from '../data/files'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Button, MainButton } from './Button'
import { Facts } from './Facts'
import { sizeText } from './format'
import { Notice } from './Notice'
import { Preview } from './Preview'
import { SureButton } from './SureButton'
import { TextField } from './TextField'
import { Time } from './Time'
import { AllVersions } from './Versions'
import { shown } from '../data/shown'
import { SafeText } from './SafeText'

const Panel = styled.aside`
  padding: 1rem 1.2rem 1.2rem;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.surface};
  h2 {
    margin: 0;
    overflow-wrap: anywhere;
  }
  h2:focus {
    outline: none;
  }
  h3 {
    margin: 1rem 0 0.2rem;
    font: 600 1rem/1.3 ${token.serif};
  }
`

const Top = styled.div`
  display: flex;
  align-items: start;
  justify-content: space-between;
  gap: 1rem;
`

const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem 0.9rem;
  margin: 0.8rem 0;
`

const Digest = styled.code`
  font-size: 0.78rem;
  overflow-wrap: anywhere;
`

export default function FilePanel({ address, close }: { address: string; close: () => void }) {
  const texts = useTexts()
  const { data: file, error } = useFile(address)
  const heading = useRef<HTMLHeadingElement>(null)
  const name = address.split('/').at(-1) ?? address
  useEffect(() => heading.current?.focus(), [address])
  return (
    <Panel aria-label={texts.facts.title(name)}>
      <Top>
        <h2 ref={heading} tabIndex={-1}>
          <SafeText>{name}</SafeText>
        </h2>
        <Button aria-label={texts.facts.close} onPress={close}>
          ✕
        </Button>
      </Top>
      {error && <Notice error={error} />}
      {file && <About file={file} close={close} />}
    </Panel>
  )
}

function About({ file, close }: { file: FileEntry; close: () => void }) {
  const { facts: texts, files, common } = useTexts()
  const may = file.may ?? []
  const [refused, setRefused] = useState<Error | null>(null)
  return (
    <>
      <Row>
        {may.includes('read') && (
          <MainButton onPress={() => save(deliveryPath(file.address), setRefused)}>
            {common.download}
          </MainButton>
        )}
        {may.includes('link') && (
          <Link to="/links" search={{ file: file.address }}>
            {texts.makeLink}
          </Link>
        )}
        {may.includes('manage') && (
          <Link to="/history" search={{ address: file.address }}>
            {texts.history}
          </Link>
        )}
      </Row>
      {refused && <Notice error={refused} />}
      <Facts facts={factsOf(file, texts)} />
      {may.includes('put') && may.includes('read') && file.version && (
        <Describe key={file.description} file={file} version={file.version} />
      )}
      {may.includes('read') && (
        <>
          <h3>{texts.preview}</h3>
          <Preview file={file} />
        </>
      )}
      {file.version && (
        <>
          <h3>{files.versionsOf(file.name)}</h3>
          <AllVersions address={file.address} name={file.name} />
        </>
      )}
      {may.includes('manage') && (
        <>
          <WhoMay address={file.address} />
          <Remove file={file} close={close} />
        </>
      )}
    </>
  )
}

type Said = ReturnType<typeof useTexts>['facts']

function factsOf(file: FileEntry, texts: Said) {
  return [
    [texts.address, <SafeText key="address">{file.address}</SafeText>],
    [texts.description, file.description && shown(file.description)],
    [texts.size, file.size === null ? null : sizeText(file.size)],
    [texts.changed, file.modified && <Time at={file.modified} />],
    [texts.type, file.media_type],
    [texts.version, file.version],
    [texts.named, file.download_name],
    [texts.renditions, file.renditions?.join(', ')],
    ...Object.entries(file.about ?? {}),
    [texts.digest, file.sha256 ? <Digest key="digest">{file.sha256}</Digest> : texts.noDigest],
    [texts.you, (file.may ?? []).map((action) => texts.actions[action]).join(', ')],
  ] as const
}

function Describe({ file, version }: { file: FileEntry; version: number }) {
  const texts = useTexts().facts
  const [text, setText] = useState(file.description ?? '')
  const renew = useRenew(file.address)
  function submit(event: SubmitEvent) {
    event.preventDefault()
    renew.mutate({ version, description: text })
  }
  return (
    <form onSubmit={submit}>
      <TextField label={texts.describe} value={text} onChange={setText} maxLength={1000} />
      {text !== (file.description ?? '') && (
        <Row>
          <Button type="submit" isDisabled={renew.isPending}>
            {texts.save}
          </Button>
        </Row>
      )}
      {renew.error && <Notice error={renew.error} />}
    </form>
  )
}

function WhoMay({ address }: { address: string }) {
  const texts = useTexts().facts
  const { data } = useAudience(address, 'read', true)
  return (
    <>
      <h3>{texts.whoMay}</h3>
      <Facts
        facts={(data?.audience ?? []).map((line) => [
          line.who,
          <>
            {line.allowed ? '✓ ' : '✗ '}
            {line.rule !== null && line.line !== null ? texts.byRule(line.rule, line.line) : texts.noRule}
          </>,
        ])}
      />
    </>
  )
}

function Remove({ file, close }: { file: FileEntry; close: () => void }) {
  const texts = useTexts().facts
  const remove = useRemove(file.address)
  return (
    <>
      <Row>
        <SureButton
          words={texts.remove}
          sure={texts.removeSure}
          isDisabled={remove.isPending}
          onPress={() => remove.mutate(undefined, { onSuccess: close })}
        />
      </Row>
      {remove.error && <Notice error={remove.error} />}
    </>
  )
}
