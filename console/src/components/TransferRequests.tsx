// The requests of a transfer over time: when each one was, which bytes it asked for, and what became of it.
import styled from 'styled-components'
import type { TransferRequest } from '../api/client'
import { spanOf, within, type Moments } from '../data/requests'
import { useTransferRequests } from '../data/transfer'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Card, Quiet } from './Card'
import { durationText, numberText, sizeText } from './format'
import { Rows } from './Rows'
import { Time } from './Time'

const KEPT = 200 // requests of one transfer that the service keeps

const Bar = styled.svg`
  display: block;
  width: 100%;
  min-width: 6rem;
  height: 14px;
  margin-top: 0.2rem;
  background: ${token.ground};
  border-radius: ${token.radius};
  rect {
    fill: ${token.accent};
  }
  rect[data-broken] {
    fill: ${token.bad};
  }
  @media (forced-colors: active) {
    rect {
      fill: Highlight;
    }
  }
`

export default function TransferRequests({ id, count }: { id: string; count: number }) {
  const said = useTexts().transfer
  const { data } = useTransferRequests(id, count)
  const requests = data?.requests ?? []
  if (!requests.length) return null
  const all = spanOf(requests)
  return (
    <Card>
      <h2>{said.each}</h2>
      <Rows
        label={said.each}
        rows={requests.map((one, place) => ({ ...one, place }))}
        idOf={(one) => String(one.place)}
        textOf={(one) => one.started}
        empty=""
        columns={[
          {
            id: 'began',
            name: said.begun,
            width: 185,
            quiet: true,
            whole: true,
            cell: (one) => <Time at={one.started} exact />,
          },
          {
            id: 'when',
            name: said.when,
            width: '2fr',
            card: 'none',
            cell: (one) => <When request={one} all={all} />,
          },
          { id: 'took', name: said.took, width: 110, right: true, cell: (one) => tookText(one) },
          { id: 'start', name: said.from, width: 150, right: true, cell: (one) => numberText(one.start) },
          {
            id: 'arrived',
            name: said.arrivedOf,
            width: 190,
            right: true,
            cell: (one) =>
              one.asked === null
                ? sizeText(one.arrived)
                : said.of(sizeText(one.arrived), sizeText(one.asked)),
          },
          { id: 'reason', name: said.reason, width: '2fr', quiet: true, cell: (one) => one.reason },
        ]}
      />
      {requests.length >= KEPT && <Quiet>{said.firstOnes(KEPT)}</Quiet>}
    </Card>
  )
}

function tookText(one: TransferRequest): string {
  const took = Date.parse(one.ended) - Date.parse(one.started) // milliseconds
  return took < 1000 ? `${took} ms` : durationText(took / 1000)
}

function When({ request, all }: { request: TransferRequest; all: Moments }) {
  const { x, width } = within(request, all)
  return (
    <Bar viewBox="0 0 100 10" preserveAspectRatio="none" aria-hidden="true">
      <rect x={x} width={width} y="0" height="10" {...(request.reason !== null && { 'data-broken': true })} />
    </Bar>
  )
}
