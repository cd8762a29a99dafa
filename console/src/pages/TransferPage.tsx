import { SafeText } from '../components/SafeText'
import { Link, useParams } from '@tanstack/react-router'
import { lazy, Suspense } from 'react'
import { Refused } from '../api/problems'
import { root } from '../api/root'
import { Card, Columns, Quiet, Row, Title } from '../components/Card'
import { CoverageStrip } from '../components/CoverageStrip'
import { Facts } from '../components/Facts'
import { durationText, numberText, sizeText } from '../components/format'
import { Notice } from '../components/Notice'
import { ProgressLine } from '../components/ProgressLine'
import { State } from '../components/State'
import { SureButton } from '../components/SureButton'
import { Time } from '../components/Time'
import { usePage } from '../data/page'
import { useMe } from '../data/session'
import { useArrived, useEndTransfer, useTransfer, type Arrived as Moment } from '../data/transfer'
import { useTexts } from '../texts'

const ArrivedChart = lazy(() => import('../components/ArrivedChart'))
const TransferRequests = lazy(() => import('../components/TransferRequests'))

type Told = NonNullable<ReturnType<typeof useTransfer>['data']>

export function TransferPage() {
  const { id } = useParams({ from: '/transfers/$id' })
  const said = useTexts().transfer
  const { data, error } = useTransfer(id)
  const points = useArrived(data?.bytes ?? null)
  const name = data?.address.split('/').at(-1) ?? id
  const heading = usePage(said.title(name))
  return (
    <>
      <Link to="/transfers">← {said.back}</Link>
      <Title>
        <h1 {...heading}>{said.title(name)}</h1>
        {data && <State transfer={data} />}
      </Title>
      {error && !data && <Notice error={missing(error, said.missing)} />}
      {data && (
        <>
          <Arrived told={data} />
          <Suspense fallback={null}>
            <TransferRequests id={data.id} count={data.requests} />
          </Suspense>
          <Columns>
            <Card>
              <h2>{said.facts}</h2>
              <About told={data} />
              {data.state === 'running' && <End id={data.id} />}
              {data.state === 'complete' && <Receipt id={data.id} />}
            </Card>
            {(data.state === 'running' || moved(points)) && (
              <Card>
                <h2>{said.overTime}</h2>
                <Suspense fallback={null}>
                  <ArrivedChart points={points} size={data.size} />
                </Suspense>
              </Card>
            )}
          </Columns>
        </>
      )}
    </>
  )
}

/** Whether anything has arrived since the page was opened. */
function moved(points: readonly Moment[]): boolean {
  return points.at(-1)?.bytes !== points[0]?.bytes
}

function missing(error: Error, words: string): Error {
  return error instanceof Refused && error.status === 404 ? new Error(words) : error
}

function Arrived({ told }: { told: Told }) {
  const said = useTexts().transfer
  return (
    <Card>
      <h2>{said.coverage}</h2>
      <ProgressLine transfer={told} />
      <Quiet>
        {sizeText(told.bytes)}
        {told.percent !== null && ` · ${said.coverageOf(told.percent)} (${said.parts(told.coverage.length)})`}
      </Quiet>
      {told.size !== null && told.percent !== null ? (
        <CoverageStrip coverage={told.coverage} size={told.size} percent={told.percent} />
      ) : (
        <Quiet>{said.unknownSize}</Quiet>
      )}
    </Card>
  )
}

function About({ told }: { told: Told }) {
  const { transfer: said, common } = useTexts()
  const runs = told.state === 'running'
  const administers = useMe().data?.administers
  return (
    <Facts
      facts={[
        [said.file, <SafeText key="file">{told.address}</SafeText>],
        [said.version, told.version],
        [said.rendition, told.rendition],
        [said.recipient, told.recipient ?? common.anyone],
        [said.madeFor, told.made_for],
        [said.reason, told.reason],
        [said.begun, <Time key="begun" at={told.started} />],
        [said.last, <Time key="last" at={told.updated} />],
        [said.requests, numberText(told.requests)],
        [said.rate, runs && told.rate ? `${sizeText(told.rate)}/s` : null],
        [said.left, runs && told.seconds_left !== null ? durationText(told.seconds_left) : null],
        [said.decidedBy, told.decided_by],
        [said.credential, told.credential],
        [said.network, told.network],
        [
          said.link,
          told.link &&
            (administers ? (
              <Link key="link" to="/history" search={{ link: told.link }}>
                {told.link}
              </Link>
            ) : (
              told.link
            )),
        ],
        [said.via, told.via],
        [said.tag, told.tag],
      ]}
    />
  )
}

/** A signed statement that it arrived, to keep. */
function Receipt({ id }: { id: string }) {
  const said = useTexts().transfer
  return (
    <>
      <Row>
        <a href={`${root}/api/transfers/${id}/receipt`} download>
          {said.receipt}
        </a>
      </Row>
      <Quiet>{said.receiptIs}</Quiet>
    </>
  )
}

function End({ id }: { id: string }) {
  const said = useTexts().transfer
  const end = useEndTransfer(id)
  return (
    <Row>
      {end.isSuccess ? (
        <Quiet role="status">{said.ended}</Quiet>
      ) : (
        <SureButton
          words={said.end}
          sure={said.endSure}
          isDisabled={end.isPending}
          onPress={() => end.mutate()}
        />
      )}
      {end.error && <Notice error={end.error} />}
    </Row>
  )
}
