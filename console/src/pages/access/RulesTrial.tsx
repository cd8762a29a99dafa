// Other rules: pasted or taken from a file, compared with those in force, and then put in force.
import { useState } from 'react'
import { FileTrigger } from 'react-aria-components'
import styled from 'styled-components'
import type { components } from '../../api/schema.gen'
import { Button, MainButton } from '../../components/Button'
import { Quiet, Row } from '../../components/Card'
import { numberText } from '../../components/format'
import { Notice } from '../../components/Notice'
import { Rows } from '../../components/Rows'
import { SureButton } from '../../components/SureButton'
import { usePutRules, useRulesFile, useTryRules } from '../../data/access'
import { useTexts } from '../../texts'
import { token } from '../../theme'
import { CheckedRows } from './Expectations'
import { SafeText } from '../../components/SafeText'

type File = components['schemas']['RulesFile']
type Trial = components['schemas']['RulesTrial']

const Text = styled.textarea`
  width: 100%;
  min-height: 20rem;
  padding: 0.6rem 0.8rem;
  border: 1px solid ${token.quiet};
  border-radius: ${token.radius};
  background: ${token.raised};
  color: inherit;
  font:
    0.85rem/1.45 ui-monospace,
    'DejaVu Sans Mono',
    monospace;
  tab-size: 4;
`

export function RulesTrial() {
  const { data, error } = useRulesFile()
  return (
    <>
      {error && <Notice error={error} />}
      {data && <Editor file={data} />}
    </>
  )
}

/** What was typed, and the digest of the file that it was made from. */
interface Edited {
  text: string
  digest: string
}

function Editor({ file }: { file: File }) {
  const said = useTexts().access
  const [edited, setEdited] = useState<Edited | null>(null)
  const text = edited?.text ?? file.text
  const trial = useTryRules()
  const put = usePutRules()

  function change(given: string) {
    setEdited((now) => ({ text: given, digest: now?.digest ?? file.digest }))
    trial.reset()
    if (!put.isPending) put.reset()
  }

  // What is typed meanwhile is kept, as a change of what is in force then.
  function putInForce() {
    put.mutate(
      { text, replaces: edited?.digest ?? file.digest },
      {
        onSuccess: ({ digest }) =>
          setEdited((now) => (now === null || now.text === text ? null : { text: now.text, digest })),
      },
    )
  }

  return (
    <>
      <label htmlFor="rules">
        <b>{said.text}</b> {file.name}
      </label>
      <Text id="rules" spellCheck={false} value={text} onChange={(event) => change(event.target.value)} />
      <Row>
        <FileTrigger
          acceptedFileTypes={['.toml', 'text/plain']}
          onSelect={(files) => void files?.[0]?.text().then(change)}
        >
          <Button>{said.upload}</Button>
        </FileTrigger>
        <MainButton isDisabled={trial.isPending} onPress={() => trial.mutate(text)}>
          {trial.isPending ? said.trying : said.tryIt}
        </MainButton>
        {trial.data?.fault === null && text !== file.text && (
          <SureButton
            words={said.putInForce}
            sure={said.putSure}
            isDisabled={put.isPending}
            onPress={putInForce}
          />
        )}
      </Row>
      {trial.error && <Notice error={trial.error} />}
      {put.error && <Notice error={put.error} />}
      {put.data && <Quiet role="status">{said.inForce(put.data.kept)}</Quiet>}
      {trial.data && <Outcome trial={trial.data} />}
    </>
  )
}

function Outcome({ trial }: { trial: Trial }) {
  const texts = useTexts()
  const said = texts.access
  if (trial.fault !== null)
    return (
      <Notice error={new Error(trial.fault)}>
        <p>{said.unusable}</p>
      </Notice>
    )
  return (
    <>
      <p role="status">
        <b>
          {trial.count
            ? said.changes(numberText(trial.count), texts.common.files(trial.files))
            : said.noChange}
        </b>
      </p>
      {trial.silent.length > 0 && <Quiet>{said.silentStores(trial.silent.join(', '))}</Quiet>}
      {trial.doubts.map((doubt) => (
        <Quiet key={doubt}>{doubt}</Quiet>
      ))}
      {trial.changes.length > 0 && (
        <Rows
          label={said.changes(numberText(trial.count), texts.common.files(trial.files))}
          rows={trial.changes}
          idOf={(change) => `${change.who} ${change.action} ${change.address}`}
          textOf={(change) => change.address}
          empty={said.noChange}
          columns={[
            {
              id: 'file',
              name: said.file,
              width: '3fr',
              cell: (change) => <SafeText>{change.address}</SafeText>,
            },
            { id: 'who', name: said.who, width: '1.5fr', cell: (change) => change.who },
            { id: 'action', name: said.action, width: '1fr', cell: (change) => change.action },
            {
              id: 'outcome',
              name: said.wouldBe,
              width: '1.2fr',
              cell: (change) => change.terms || (change.allowed ? `✓ ${said.allowed}` : `✗ ${said.refused}`),
            },
            {
              id: 'rule',
              name: said.rule,
              width: '2fr',
              quiet: true,
              cell: (change) => `${change.rule} (${said.line(change.line)})`,
            },
          ]}
        />
      )}
      <h2>{said.expectations}</h2>
      <CheckedRows checked={trial.expectations} />
    </>
  )
}
