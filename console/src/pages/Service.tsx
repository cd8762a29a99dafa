import styled from 'styled-components'
import type { components } from '../api/schema.gen'
import { Card, Packed } from '../components/Card'
import { Facts } from '../components/Facts'
import { numberText, sizeText } from '../components/format'
import { Keys } from '../components/Keys'
import { Notice } from '../components/Notice'
import { Rows } from '../components/Rows'
import { Time } from '../components/Time'
import { Webhooks } from '../components/Webhooks'
import { usePage } from '../data/page'
import { useAudit, useServiceState } from '../data/service'
import { useTexts } from '../texts'
import { token } from '../theme'

type State = components['schemas']['ServiceState']

const Well = styled.p<{ $good: boolean }>`
  margin: 0.4rem 0;
  color: ${(props) => (props.$good ? token.good : token.bad)};
  font-weight: 600;
`

export function Service() {
  const texts = useTexts()
  const said = texts.service
  const { data, error } = useServiceState()
  const heading = usePage(said.title)
  return (
    <>
      <h1 {...heading}>{said.title}</h1>
      {error && <Notice error={error} />}
      {data && <Parts state={data} />}
      <Card>
        <h2>{texts.keys.title}</h2>
        <Keys />
      </Card>
      <Card>
        <h2>{texts.webhooks.title}</h2>
        <Webhooks />
      </Card>
      <Card>
        <h2>{said.audit}</h2>
        <Audit />
      </Card>
    </>
  )
}

function Parts({ state }: { state: State }) {
  const said = useTexts().service
  const faults = Object.entries(state.faults)
  const hints = Object.entries(state.hints)
  return (
    <>
      <Packed>
        <Card>
          <Well $good={!faults.length} role="status">
            {faults.length ? `✗ ${said.notReady}` : `✓ ${said.ready}`}
          </Well>
          <Facts facts={faults} />
          {hints.length > 0 && (
            <>
              {said.hints}
              <Facts facts={hints} />
            </>
          )}
          <Facts
            facts={[
              [said.version, `${state.version} (Python ${state.python})`],
              [said.since, <Time key="since" at={state.since} />],
              [said.rulesSince, <Time key="rules" at={state.rules_since} />],
              [said.processes, numberText(state.processes)],
              [said.running, numberText(state.requests)],
              [said.records, sizeText(state.records)],
            ]}
          />
        </Card>
        <Card>
          <h2>{said.stores}</h2>
          <Facts
            facts={state.stores.map((store) => [
              `${store.name} (${store.kind})`,
              store.fault ? `✗ ${store.fault}` : `✓ ${said.answers}, ${Math.ceil(store.seconds * 1000)} ms`,
            ])}
          />
        </Card>
        <Card>
          <h2>{said.disk}</h2>
          <Facts
            facts={state.disks.map((disk) => [
              disk.what.join(', '),
              `${sizeText(disk.free)} ${said.free.toLowerCase()} / ${sizeText(disk.total)}`,
            ])}
          />
          <h2>{said.queues}</h2>
          <Facts
            facts={state.queues.map((queue) => [
              queue.name,
              [
                `${queue.running} ${said.busy}`,
                `${queue.waiting} ${said.waiting}`,
                `${said.most} ${numberText(queue.room)}`,
              ].join(' · '),
            ])}
          />
        </Card>
        <Card>
          <h2>{said.slowest}</h2>
          {state.slowest.length ? (
            <Facts
              facts={state.slowest
                .slice(0, 8)
                .map((slow) => [
                  `${Math.ceil(slow.seconds * 1000)} ms`,
                  `${slow.method} ${slow.path} → ${slow.status}`,
                ])}
            />
          ) : (
            said.none
          )}
        </Card>
      </Packed>
    </>
  )
}

function Audit() {
  const said = useTexts().service
  const { data, error } = useAudit()
  if (error) return <Notice error={error} />
  return (
    <Rows
      label={said.audit}
      rows={data?.lines ?? []}
      idOf={(line) => String(line.id)}
      textOf={(line) => line.event}
      empty={said.none}
      columns={[
        { id: 'event', name: said.event, width: '1.2fr', cell: (line) => line.event },
        {
          id: 'when',
          name: said.when,
          width: 175,
          quiet: true,
          whole: true,
          cell: (line) => <Time at={line.at} />,
        },
        { id: 'by', name: said.who, width: '1fr', cell: (line) => line.by },
        {
          id: 'about',
          name: said.about,
          width: '3fr',
          quiet: true,
          cell: (line) =>
            Object.entries(line.about)
              .map(([name, value]) => `${name}: ${String(value)}`)
              .join(', '),
        },
      ]}
    />
  )
}
