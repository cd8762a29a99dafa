import { memo } from 'react'
import { TableBody, TableHeader } from 'react-aria-components'
import styled from 'styled-components'
import { SHOWN, type Transfer } from '../api/client'
import { useNarrow } from '../data/narrow'
import { usePage } from '../data/page'
import { useTransfers } from '../data/transfers'
import { countText, durationText, sizeText, timeText } from '../components/format'
import { Notice } from '../components/Notice'
import { ProgressLine } from '../components/ProgressLine'
import { State } from '../components/State'
import { Empty, Field, Head, Line, Table } from '../components/Table'
import { token } from '../theme'

const Title = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 1rem;
  margin-bottom: 1rem;
  span {
    color: ${token.quiet};
  }
`

const Aside = styled.div`
  color: ${token.quiet};
  font-size: 0.85rem;
`

export function Transfers() {
  const { transfers, isPending, error, live } = useTransfers()
  const narrow = useNarrow()
  const heading = usePage('Transfers')
  return (
    <>
      <Title>
        <h1 {...heading}>Transfers</h1>
        <span role="status">
          {live ? 'as they go' : 'not connected; trying again'}
          {transfers.length >= SHOWN && `; the newest ${SHOWN}, older ones stand in the history`}
        </span>
      </Title>
      {error && <Notice error={error} />}
      <Table aria-label="Transfers">
        <TableHeader>
          <Head isRowHeader width="3fr" minWidth={140}>
            File
          </Head>
          {!narrow && <Head width="1fr">Recipient</Head>}
          <Head width={narrow ? 105 : 130}>State</Head>
          {!narrow && (
            <Head width="1.4fr" minWidth={170}>
              Progress
            </Head>
          )}
          <Head $right width={narrow ? 110 : 150}>
            Arrived
          </Head>
          {!narrow && (
            <Head $right width={105}>
              Rate
            </Head>
          )}
          {!narrow && (
            <Head $right width={75}>
              Left
            </Head>
          )}
          {!narrow && (
            <Head $right width={165}>
              Begun
            </Head>
          )}
        </TableHeader>
        <TableBody
          items={transfers}
          dependencies={[narrow]}
          renderEmptyState={() => (
            <Empty role="status">
              {isPending
                ? 'Looking …'
                : error
                  ? 'The transfers could not be loaded.'
                  : 'Nothing was delivered yet.'}
            </Empty>
          )}
        >
          {(transfer) => <Entry transfer={transfer} narrow={narrow} />}
        </TableBody>
      </Table>
    </>
  )
}

const Entry = memo(function Entry({ transfer, narrow }: { transfer: Transfer; narrow: boolean }) {
  const running = transfer.state === 'running'
  const [folder, name] = split(transfer.address)
  return (
    <Line id={transfer.id} textValue={transfer.address}>
      <Field>
        <bdi>{name}</bdi>
        <Aside>
          <bdi>{folder}</bdi>
        </Aside>
        {running && transfer.entries && (
          <Aside>
            {transfer.entries_done} of {countText(transfer.entries, 'file', 'files')}
            {transfer.entry && ` · ${transfer.entry}`}
          </Aside>
        )}
        {transfer.reason && <Aside>{transfer.reason}</Aside>}
        {narrow && <ProgressLine transfer={transfer} />}
      </Field>
      {!narrow && <Field $quiet>{transfer.recipient ?? 'anyone'}</Field>}
      <Field>
        <State transfer={transfer} />
      </Field>
      {!narrow && (
        <Field>
          <ProgressLine transfer={transfer} />
        </Field>
      )}
      <Field $right>
        {sizeText(transfer.bytes)}
        {transfer.percent !== null && ` · ${transfer.percent} %`}
      </Field>
      {!narrow && <Field $right>{running && transfer.rate ? `${sizeText(transfer.rate)}/s` : ''}</Field>}
      {!narrow && (
        <Field $right>
          {running && transfer.seconds_left !== null ? durationText(transfer.seconds_left) : ''}
        </Field>
      )}
      {!narrow && (
        <Field $quiet $right>
          {timeText(transfer.started)}
        </Field>
      )}
    </Line>
  )
})

/** The folder and the name of an address; of a bundle, whose id says nothing to a person, the word alone. */
function split(address: string): [string, string] {
  const place = address.lastIndexOf('/') + 1
  return [address.startsWith('bundles/') ? 'bundle' : address.slice(0, place), address.slice(place)]
}
