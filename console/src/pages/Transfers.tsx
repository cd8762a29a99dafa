import { useNavigate } from '@tanstack/react-router'
import { lazy, memo, Suspense, useCallback, useMemo, useState, type ReactNode } from 'react'
import styled from 'styled-components'
import type { Transfer } from '../api/client'
import { Aside, Title } from '../components/Card'
import { durationText, sizeText } from '../components/format'
import { Notice } from '../components/Notice'
import { ProgressLine } from '../components/ProgressLine'
import { Rows } from '../components/Rows'
import type { ColumnOf } from '../components/rowsOf'
import { Select } from '../components/Select'
import { State } from '../components/State'
import { TextField } from '../components/TextField'
import { Time } from '../components/Time'
import { usePage } from '../data/page'
import { useStableRows, type Identified } from '../data/stable'
import { addressOf, SHOWN, useAllTransfers, useLiveTransfer, useTransfers } from '../data/transfers'
import { stateOf, type Shown } from '../data/transferState'
import { useTexts } from '../texts'
import type { Texts } from '../texts/en'
import { token } from '../theme'
import { SafeText } from '../components/SafeText'

// The plotting library is loaded where a chart is drawn.
const Throughput = lazy(() => import('../components/Throughput'))

const Live = styled.span`
  color: ${token.quiet};
`

const Filters = styled(Title)`
  align-items: end;
  margin-top: 0.8rem;
`

const STATES: Shown[] = ['running', 'waiting', 'paused', 'complete', 'broken-off', 'handed-off']

export function Transfers() {
  const texts = useTexts()
  const said = texts.transfers
  const { isPending, error, live } = useTransfers()
  const transfers = useAllTransfers()
  const navigate = useNavigate()
  const heading = usePage(said.title)
  const [state, setState] = useState('')
  const [text, setText] = useState('')
  const columns = useMemo(() => columnsOf(texts), [texts])
  const rows = useStableRows(filtered(transfers, state, text).map((one) => one.id))
  const open = useCallback(
    (id: string) => void navigate({ to: '/transfers/$id', params: { id } }),
    [navigate],
  )
  const states = [['', texts.common.all], ...STATES.map((one) => [one, said.states[one]] as const)] as const
  return (
    <>
      <Title>
        <h1 {...heading}>{said.title}</h1>
        <Live role="status">
          {live ? said.live : said.away}
          {transfers.length >= SHOWN && said.newest(SHOWN)}
        </Live>
      </Title>
      {error && <Notice error={error} />}
      <Suspense fallback={null}>
        <Throughput />
      </Suspense>
      <Filters>
        <TextField label={said.filterText} value={text} onChange={setText} />
        <Select label={said.filterState} value={state} choices={states} onChange={setState} />
      </Filters>
      <Rows
        label={said.title}
        columns={columns}
        rows={rows}
        idOf={idOf}
        textOf={addressOf}
        onOpen={open}
        empty={
          isPending
            ? texts.common.looking
            : error
              ? said.notLoaded
              : transfers.length
                ? said.noneSuch
                : said.none
        }
      />
    </>
  )
}

function idOf(row: Identified): string {
  return row.id
}

function filtered(transfers: readonly Transfer[], state: string, text: string): readonly Transfer[] {
  const wanted = text.trim().toLowerCase()
  if (!state && !wanted) return transfers
  return transfers.filter(
    (one) =>
      (!state || stateOf(one) === state) &&
      [one.address, one.recipient, one.made_for].some((name) => name?.toLowerCase().includes(wanted)),
  )
}

/** A cell that is drawn again when its own transfer has moved. */
function live(draw: (transfer: Transfer) => ReactNode) {
  return function LiveCell({ id }: Identified) {
    const transfer = useLiveTransfer(id)
    return <>{transfer && draw(transfer)}</>
  }
}

function columnsOf({ transfers, common }: Texts): ColumnOf<Identified>[] {
  const cell = (draw: (transfer: Transfer) => ReactNode) => {
    const Live = live(draw)
    return (row: Identified) => <Live id={row.id} />
  }
  return [
    {
      id: 'file',
      name: transfers.file,
      width: '3fr',
      minWidth: 140,
      cell: cell((transfer) => <Named transfer={transfer} />),
    },
    {
      id: 'recipient',
      name: transfers.recipient,
      width: '1fr',
      quiet: true,
      cell: cell(
        (transfer) =>
          transfer.recipient ?? (transfer.made_for ? transfers.madeFor(transfer.made_for) : common.anyone),
      ),
    },
    {
      id: 'state',
      name: transfers.state,
      width: 130,
      card: 'end',
      cell: cell((transfer) => <State transfer={transfer} />),
    },
    {
      id: 'progress',
      name: transfers.progress,
      width: '1.4fr',
      minWidth: 150,
      cell: cell((transfer) => <ProgressLine transfer={transfer} />),
    },
    { id: 'arrived', name: transfers.arrived, width: 150, right: true, cell: cell(arrivedText) },
    {
      id: 'rate',
      name: transfers.rate,
      width: 105,
      right: true,
      cell: cell(({ state, rate }) => (state === 'running' && rate ? `${sizeText(rate)}/s` : '')),
    },
    {
      id: 'left',
      name: transfers.left,
      width: 85,
      right: true,
      cell: cell(({ state, seconds_left: left }) =>
        state === 'running' && left !== null ? durationText(left) : '',
      ),
    },
    {
      id: 'begun',
      name: transfers.begun,
      width: 170,
      right: true,
      quiet: true,
      cell: cell((transfer) => <Time at={transfer.started} />),
    },
  ]
}

function arrivedText({ bytes, percent }: Transfer): string {
  return sizeText(bytes) + (percent === null ? '' : ` · ${percent} %`)
}

const Named = memo(function Named({ transfer }: { transfer: Transfer }) {
  const { transfers: said, common } = useTexts()
  const place = transfer.address.lastIndexOf('/') + 1
  // Of a bundle, the id says nothing to a person.
  const folder = transfer.address.startsWith('bundles/') ? said.bundle : transfer.address.slice(0, place)
  return (
    <>
      <SafeText>{transfer.address.slice(place)}</SafeText>
      <Aside>
        <SafeText>{folder}</SafeText>
      </Aside>
      {transfer.state === 'running' && transfer.entries && (
        <Aside>
          {said.entries(transfer.entries_done, common.files(transfer.entries))}
          {transfer.entry && ` · ${transfer.entry}`}
        </Aside>
      )}
      {transfer.rendition && <Aside>{common.rendition(transfer.rendition)}</Aside>}
      {transfer.reason && <Aside>{transfer.reason}</Aside>}
    </>
  )
})
