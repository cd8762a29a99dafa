// One question, and what each rule says to it.
import { useState, type SubmitEvent } from 'react'
import styled from 'styled-components'
import type { Action } from '../../api/client'
import { MainButton } from '../../components/Button'
import { Card, Row } from '../../components/Card'
import { Fields } from '../../components/LinkForm'
import { Notice } from '../../components/Notice'
import { Rows } from '../../components/Rows'
import { Select } from '../../components/Select'
import { TextField } from '../../components/TextField'
import { ACTIONS, useDecision, type Question } from '../../data/access'
import { useTexts } from '../../texts'
import { token } from '../../theme'

const Verdict = styled.p<{ $good: boolean }>`
  margin: 0.4rem 0 0.8rem;
  color: ${(props) => (props.$good ? token.good : token.bad)};
  font: 600 1.15rem/1.4 ${token.serif};
`

const FIRST: Question = { who: '', address: '', action: 'read', at: '', network: '' }

export function Why() {
  const texts = useTexts()
  const said = texts.access
  const [asked, setAsked] = useState(FIRST)
  const decision = useDecision()
  const set = (name: keyof Question) => (value: string) => setAsked({ ...asked, [name]: value })
  const actions = ACTIONS.map((action) => [action, texts.facts.actions[action]] as const)

  function submit(event: SubmitEvent) {
    event.preventDefault()
    decision.mutate(asked)
  }

  const told = decision.data
  return (
    <>
      <Card as="form" onSubmit={submit} aria-label={said.why}>
        <Fields>
          <TextField label={said.who} placeholder={said.whoPlace} value={asked.who} onChange={set('who')} />
          <Select
            label={said.action}
            value={asked.action}
            choices={actions}
            onChange={(action) => setAsked({ ...asked, action: action as Action })}
          />
          <TextField label={said.what} value={asked.address} onChange={set('address')} isRequired />
          <TextField label={said.at} type="datetime-local" value={asked.at} onChange={set('at')} />
          <TextField
            label={said.network}
            placeholder="192.0.2.7"
            value={asked.network}
            onChange={set('network')}
          />
        </Fields>
        <Row>
          <MainButton type="submit" isDisabled={decision.isPending}>
            {said.ask}
          </MainButton>
        </Row>
      </Card>
      {decision.error && <Notice error={decision.error} />}
      {told && (
        <>
          <Verdict $good={told.allowed} role="status">
            {(told.allowed ? said.yes : said.no)(
              told.recipient ?? texts.common.anyone,
              texts.facts.actions[told.action],
              told.address,
            )}
          </Verdict>
          <Rows
            label={said.because}
            rows={told.reasons}
            idOf={(reason) => String(reason.line)}
            textOf={(reason) => reason.rule}
            empty={said.noExpectations}
            columns={[
              {
                id: 'rule',
                name: said.rule,
                width: '2fr',
                cell: (reason) => `${reason.rule} (${said.line(reason.line)})`,
              },
              {
                id: 'effect',
                name: said.because,
                width: '1fr',
                cell: (reason) =>
                  `${reason.spoke ? (reason.effect === 'allow' ? '✓ ' : '✗ ') : '· '}${
                    reason.spoke ? (reason.effect === 'allow' ? said.allow : said.deny) : said.silent
                  }`,
              },
              {
                id: 'because',
                name: said.conditions,
                width: '3fr',
                quiet: true,
                cell: (reason) => reason.because,
              },
            ]}
          />
        </>
      )}
    </>
  )
}
