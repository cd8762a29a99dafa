// Any link, explained condition by condition; and a narrower one made of it.
import { useState, type SubmitEvent } from 'react'
import styled from 'styled-components'
import { useExplainLink } from '../data/links'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Button } from './Button'
import { Aside, Card, Row } from './Card'
import { Facts } from './Facts'
import { timeText } from './format'
import { NarrowLink } from './NarrowLink'
import { Notice } from './Notice'
import { TextField } from './TextField'
import { Time } from './Time'

const Verdict = styled.p<{ $good: boolean }>`
  margin: 0.6rem 0 0;
  color: ${(props) => (props.$good ? token.good : token.bad)};
  font-weight: 600;
`

export function ExplainLink() {
  const texts = useTexts().links
  const said = texts.explain
  const [link, setLink] = useState('')
  const explain = useExplainLink()
  const told = explain.data

  function submit(event: SubmitEvent) {
    event.preventDefault()
    explain.mutate(link.trim())
  }

  return (
    <Card as="form" onSubmit={submit} aria-label={said.title}>
      <h2>{said.title}</h2>
      <TextField label={said.paste} value={link} onChange={setLink} isRequired />
      <Row>
        <Button type="submit" isDisabled={explain.isPending}>
          {said.ask}
        </Button>
      </Row>
      {explain.error && <Notice error={explain.error} />}
      {told && (
        <div role="status">
          <Verdict $good={told.reason === null}>
            {told.reason === null ? `✓ ${said.holds}` : `✗ ${said.fails}`}
          </Verdict>
          <Aside>{told.detail}</Aside>
          <Facts
            facts={[
              [said.opens, told.scope ?? told.address],
              [said.seal, told.sealed ? `${said.sealGood}; ${said.key(told.key)}` : said.sealBad],
              ...told.conditions.map(
                ({ name, value, holds }) =>
                  [name, `${holds === null ? '' : holds ? '✓ ' : '✗ '}${valueText(name, value)}`] as const,
              ),
              ['', told.used === null ? null : said.used(told.used, told.uses)],
              [texts.states.revoked, told.revoked && <Time key="revoked" at={told.revoked} />],
              ['', told.maker && texts.by(told.maker)],
            ]}
          />
        </div>
      )}
      {told?.sealed && <NarrowLink link={link.trim()} />}
    </Card>
  )
}

function valueText(name: string, value: string): string {
  if (name === 'until' || name === 'after') return timeText(Number(value))
  return name === 'rate' ? `${value} B/s` : value
}
