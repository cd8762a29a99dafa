import { TableBody, TableHeader } from 'react-aria-components'
import styled from 'styled-components'
import type { Transfer } from '../api/client'
import { useTransfers } from '../data/transfers'
import { countText, durationText, sizeText, timeText } from '../components/format'
import { Notice } from '../components/Notice'
import { ProgressLine } from '../components/ProgressLine'
import { State } from '../components/State'
import { Empty, Field, Frame, Head, Line, Table } from '../components/Table'
import { token } from '../theme'

const Title = styled.div`
  display: flex;
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
  return (
    <>
      <Title>
        <h1>Transfers</h1>
        <span role="status">{live ? 'as they go' : 'not connected; trying again'}</span>
      </Title>
      {error && <Notice error={error} />}
      <Frame>
        <Table aria-label="Transfers">
          <TableHeader>
            <Head isRowHeader>File</Head>
            <Head>Recipient</Head>
            <Head>State</Head>
            <Head>Progress</Head>
            <Head $right>Arrived</Head>
            <Head $right>Rate</Head>
            <Head $right>Left</Head>
            <Head $right>Begun</Head>
          </TableHeader>
          <TableBody
            items={transfers}
            renderEmptyState={() => <Empty>{isPending ? 'Looking …' : 'Nothing was delivered yet.'}</Empty>}
          >
            {(transfer) => <Entry transfer={transfer} />}
          </TableBody>
        </Table>
      </Frame>
    </>
  )
}

function Entry({ transfer }: { transfer: Transfer }) {
  const running = transfer.state === 'running'
  const [folder, name] = split(transfer.address)
  return (
    <Line id={transfer.id} textValue={transfer.address}>
      <Field>
        {name}
        <Aside>{folder}</Aside>
        {running && transfer.entries && (
          <Aside>
            {transfer.entries_done} of {countText(transfer.entries, 'file', 'files')}
            {transfer.entry && ` · ${transfer.entry}`}
          </Aside>
        )}
        {transfer.reason && <Aside>{transfer.reason}</Aside>}
      </Field>
      <Field $quiet>{transfer.recipient ?? 'anyone'}</Field>
      <Field>
        <State transfer={transfer} />
      </Field>
      <Field>
        <ProgressLine transfer={transfer} />
      </Field>
      <Field $right>
        {sizeText(transfer.bytes)}
        {transfer.percent !== null && ` · ${transfer.percent.toFixed(1)} %`}
      </Field>
      <Field $right>{running && transfer.rate ? `${sizeText(transfer.rate)}/s` : ''}</Field>
      <Field $right>{running ? durationText(transfer.seconds_left) : ''}</Field>
      <Field $quiet $right>
        {timeText(transfer.started)}
      </Field>
    </Line>
  )
}

/** The folder and the name of an address; of a bundle, whose id says nothing to a person, the word alone. */
function split(address: string): [string, string] {
  const place = address.lastIndexOf('/') + 1
  return [address.startsWith('bundles/') ? 'bundle' : address.slice(0, place), address.slice(place)]
}
