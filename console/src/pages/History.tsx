import { useNavigate, useSearch } from '@tanstack/react-router'
import { lazy, Suspense, useMemo, useState, type SubmitEvent } from 'react'
import { Aside, Card, Quiet, Row, Title } from '../components/Card'
import { Button, MainButton } from '../components/Button'
import { numberText, sizeText } from '../components/format'
import { Fields } from '../components/LinkForm'
import { Notice } from '../components/Notice'
import { Rows } from '../components/Rows'
import type { ColumnOf } from '../components/rowsOf'
import { Select } from '../components/Select'
import { StateWord } from '../components/State'
import { TextField } from '../components/TextField'
import { Time } from '../components/Time'
import { exportPath, LISTED, useLines, useSums, type HistoryFilters, type HistoryLine } from '../data/history'
import { usePage } from '../data/page'
import { useTexts } from '../texts'
import type { Texts } from '../texts/en'
import { SafeText } from '../components/SafeText'

const HistoryCharts = lazy(() => import('../components/HistoryCharts'))
const STATES = ['complete', 'partial', 'broken-off', 'handed-off', 'refused', 'running'] as const

export function History() {
  const texts = useTexts()
  const said = texts.history
  const filters = useSearch({ from: '/history' })
  const navigate = useNavigate()
  const heading = usePage(said.title)
  const sums = useSums(filters)
  const lines = useLines(filters)
  const columns = useMemo(() => columnsOf(texts), [texts])
  const error = lines.error ?? sums.error
  return (
    <>
      <Title>
        <h1 {...heading}>{said.title}</h1>
        <Quiet as="span" role="status">
          {sums.data && said.lines(numberText(sums.data.lines))}
          {sums.data && sums.data.lines > LISTED && `; ${said.newestOf(LISTED)}`}
          {sums.data && !sums.data.whole && `; ${said.cut(numberText(sums.data.lines))}`}
        </Quiet>
      </Title>
      <Filters key={JSON.stringify(filters)} filters={filters} />
      {error && <Notice error={error} />}
      {sums.data && (
        <Suspense fallback={<p role="status">{texts.common.looking}</p>}>
          <HistoryCharts sums={sums.data} />
        </Suspense>
      )}
      <Row>
        <a href={exportPath(filters, 'csv')}>{said.exportCsv}</a>
        <a href={exportPath(filters, 'jsonl')}>{said.exportLines}</a>
      </Row>
      <Rows
        label={said.title}
        columns={columns}
        rows={lines.data ?? []}
        idOf={(line) => line.id}
        textOf={(line) => line.address}
        onOpen={(id) => void navigate({ to: '/transfers/$id', params: { id } })}
        empty={lines.isPending ? texts.common.looking : said.none}
      />
    </>
  )
}

function Filters({ filters }: { filters: HistoryFilters }) {
  const texts = useTexts()
  const said = texts.history
  const navigate = useNavigate({ from: '/history' })
  const [typed, setTyped] = useState(filters)
  const set = (name: keyof HistoryFilters) => (value: string) =>
    setTyped({ ...typed, [name]: value || undefined })
  const states = [
    ['', texts.common.all],
    ...STATES.map((one) => [one, texts.transfers.states[one]] as const),
  ] as const

  function submit(event: SubmitEvent) {
    event.preventDefault()
    void navigate({ search: typed })
  }

  return (
    <Card as="form" onSubmit={submit} aria-label={said.filters}>
      <Fields>
        <TextField label={said.address} value={typed.address ?? ''} onChange={set('address')} />
        <TextField label={said.recipient} value={typed.recipient ?? ''} onChange={set('recipient')} />
        <TextField label={said.link} value={typed.link ?? ''} onChange={set('link')} />
        <Select label={said.state} value={typed.state ?? ''} choices={states} onChange={set('state')} />
        <TextField label={said.since} type="date" value={typed.since ?? ''} onChange={set('since')} />
        <TextField label={said.until} type="date" value={typed.until ?? ''} onChange={set('until')} />
      </Fields>
      <Row>
        <MainButton type="submit">{said.apply}</MainButton>
        <Button onPress={() => void navigate({ search: {} })}>{said.reset}</Button>
      </Row>
    </Card>
  )
}

function columnsOf({ history, common }: Texts): ColumnOf<HistoryLine>[] {
  return [
    {
      id: 'file',
      name: history.file,
      width: '3fr',
      minWidth: 150,
      cell: (line) => (
        <>
          <SafeText>{line.address}</SafeText>
          {line.rendition && <Aside>{common.rendition(line.rendition)}</Aside>}
          {line.reason && <Aside>{line.reason}</Aside>}
        </>
      ),
    },
    {
      id: 'when',
      name: history.when,
      width: 150,
      quiet: true,
      whole: true,
      cell: (line) => <Time at={line.started} />,
    },
    {
      id: 'recipient',
      name: history.recipient,
      width: '1fr',
      cell: (line) => line.recipient ?? line.made_for ?? common.anyone,
    },
    {
      id: 'state',
      name: history.state,
      width: 130,
      card: 'end',
      cell: (line) => <StateWord state={line.state} reason={line.reason} />,
    },
    {
      id: 'arrived',
      name: history.arrived,
      width: 105,
      right: true,
      cell: (line) => (line.state === 'refused' ? '' : sizeText(line.bytes)),
    },
    { id: 'by', name: history.by, width: '1.4fr', quiet: true, cell: (line) => line.decided_by },
  ]
}
