// For looking at components in all their states while developing: `npm run dev`, then /states.html. It is not built.
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode, type ReactNode } from 'react'
import { createRoot } from 'react-dom/client'
import { Refused, Unreachable } from '../api/problems'
import { Button, MainButton } from '../components/Button'
import { Card } from '../components/Card'
import { CoverageStrip } from '../components/CoverageStrip'
import { Facts } from '../components/Facts'
import { LeftOut } from '../components/LeftOut'
import { MadeLink } from '../components/MadeLink'
import { Notice } from '../components/Notice'
import { ProgressLine } from '../components/ProgressLine'
import { QuotaBar } from '../components/QuotaBar'
import { Rows } from '../components/Rows'
import { Select } from '../components/Select'
import { StateWord } from '../components/State'
import { SureButton } from '../components/SureButton'
import { TextField } from '../components/TextField'
import { GlobalStyle } from '../theme'

const STATES = [
  'running',
  'waiting',
  'paused',
  'complete',
  'partial',
  'broken-off',
  'handed-off',
  'refused',
  'never heard of',
]
const QUOTA = {
  rule: 'charts for pilots',
  seconds: 86_400,
  files: 10,
  bytes: null,
  used_files: 2,
  used_bytes: 0,
  frees: new Date(Date.now() + 86_400_000).toISOString(),
}
const REFUSAL = {
  title: 'You have reached a quota',
  detail: 'you have had 10 of 10 files today',
  reason: 'quota' as const,
  text: 'Ask the survey desk for more.',
  names: ['charts/approach/north-channel.pdf', 'charts/harbour/inner-basin.pdf'],
}

function States() {
  return (
    <>
      <Shown title="Buttons">
        <Button>Revoke</Button> <MainButton>Make the link</MainButton> <Button isDisabled>Disabled</Button>{' '}
        <SureButton words="Remove" sure="Remove it for good" onPress={() => undefined} />
      </Shown>
      <Shown title="Fields">
        <TextField label="File" placeholder="store/folder/name" />
        <Select label="It ends" value="7" choices={[['7', 'in a week']]} onChange={() => undefined} />
      </Shown>
      <Shown title="States of transfers">
        {STATES.map((state) => (
          <div key={state}>
            <StateWord state={state} />
            <ProgressLine transfer={{ address: state, state, percent: 42 }} />
          </div>
        ))}
        <ProgressLine transfer={{ address: 'of unknown size', state: 'running', percent: null }} />
      </Shown>
      <Shown title="Coverage">
        <CoverageStrip
          coverage={[
            [0, 300],
            [500, 501],
            [700, 900],
          ]}
          size={1000}
          percent={50}
        />
      </Shown>
      <Shown title="Quotas">
        <QuotaBar quota={QUOTA} />
        <QuotaBar quota={{ ...QUOTA, used_files: 10 }} />
      </Shown>
      <Shown title="Refused, away, left out">
        <Notice error={new Refused(429, REFUSAL, 3600)} />
        <Notice error={new Unreachable('The service does not answer. It is asked again.')} />
        <LeftOut left={[{ address: 'charts/drafts/a.pdf', reason: 'not-allowed' }]}>
          <Button>Leave these out and go on</Button>
        </LeftOut>
      </Shown>
      <Shown title="A link that was made">
        <MadeLink url="http://127.0.0.1:8480/get/charts/a.pdf?id=x&key=k1&until=1900000000&seal=abc" />
      </Shown>
      <Shown title="Rows: some, and none">
        <Rows
          label="Some"
          rows={[{ name: 'a' }, { name: 'b' }]}
          idOf={(row) => row.name}
          textOf={(row) => row.name}
          empty=""
          columns={[{ id: 'name', name: 'Name', cell: (row) => row.name }]}
        />
        <Rows
          label="None"
          rows={[]}
          idOf={() => ''}
          textOf={() => ''}
          empty="Nothing here for you."
          columns={[{ id: 'name', name: 'Name', cell: () => '' }]}
        />
        <Facts
          facts={[
            ['Size', '171 KiB'],
            ['Not known', null],
          ]}
        />
      </Shown>
    </>
  )
}

function Shown({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Card>
      <h2>{title}</h2>
      {children}
    </Card>
  )
}

const place = document.getElementById('root')
if (place)
  createRoot(place).render(
    <StrictMode>
      <QueryClientProvider client={new QueryClient()}>
        <GlobalStyle />
        <States />
      </QueryClientProvider>
    </StrictMode>,
  )
