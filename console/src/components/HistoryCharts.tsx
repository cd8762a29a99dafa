// The history in charts; each with the same as a table, for those who do not see it.
import type { ReactNode } from 'react'
import styled from 'styled-components'
import { Bar, BarChart, ResponsiveContainer, XAxis, YAxis } from 'recharts'
import type { components } from '../api/schema.gen'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Card, Packed } from './Card'
import { numberText, sizeText } from './format'
import { SafeText } from './SafeText'

type Sums = components['schemas']['HistorySummary']

const Words = styled.details`
  margin-top: 0.3rem;
  color: ${token.quiet};
  font-size: ${token.type.small};
  td,
  th {
    padding: 0 0.8rem 0 0;
    text-align: left;
  }
`

const Shares = styled.ol`
  margin: 0;
  padding: 0;
  list-style: none;
  li {
    position: relative;
    display: flex;
    justify-content: space-between;
    gap: 1rem;
    padding: 0.2rem 0.5rem;
    overflow-wrap: anywhere;
  }
  li > span {
    position: relative;
  }
  li > span:last-child {
    white-space: nowrap;
    font-variant-numeric: tabular-nums;
  }
`

const Share = styled.i`
  position: absolute;
  inset: 2px auto 2px 0;
  border-radius: 3px;
  background: ${token.wash};
`

export default function HistoryCharts({ sums }: { sums: Sums }) {
  const said = useTexts().history
  const { common } = useTexts()
  const most = (list: Sums['files']) =>
    list.map((one) => ({
      name: one.name ?? common.anyone,
      count: one.downloads,
      words: `${numberText(one.downloads)} · ${sizeText(one.bytes)}`,
    }))
  return (
    <Packed>
      <Chart title={said.downloadsADay}>
        <Days sums={sums} what="downloads" words={(value) => numberText(value)} />
      </Chart>
      <Chart title={said.bytesADay}>
        <Days sums={sums} what="bytes" words={(value) => sizeText(value)} />
      </Chart>
      <Chart title={said.topFiles}>
        <Ranked lines={most(sums.files)} />
      </Chart>
      <Chart title={said.topRecipients}>
        <Ranked lines={most(sums.recipients)} />
      </Chart>
      <Chart title={said.refusals}>
        <Ranked
          lines={sums.refusals.map(({ reason, count }) => ({
            name: reason,
            count,
            words: numberText(count),
          }))}
        />
      </Chart>
    </Packed>
  )
}

function Chart({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Card aria-label={title}>
      <h2>{title}</h2>
      {children}
    </Card>
  )
}

interface DaysOf {
  sums: Sums
  what: 'downloads' | 'bytes'
  words: (value: number) => string
}

function Days({ sums, what, words }: DaysOf) {
  const said = useTexts().history
  return (
    <>
      <div aria-hidden="true">
        <ResponsiveContainer width="100%" height={170}>
          <BarChart
            data={sums.days}
            margin={{ top: 8, right: 4, bottom: 0, left: 0 }}
            accessibilityLayer={false}
          >
            <XAxis dataKey="day" tickFormatter={(day: string) => day.slice(5)} stroke={token.quiet} />
            <YAxis
              width={84}
              fontSize={13}
              tickFormatter={words}
              allowDecimals={false}
              stroke={token.quiet}
            />
            <Bar dataKey={what} fill={token.accent} maxBarSize={36} isAnimationActive={false} />
          </BarChart>
        </ResponsiveContainer>
      </div>
      <Words>
        <summary>{said.table}</summary>
        <table>
          <thead>
            <tr>
              <th scope="col">{said.day}</th>
              <th scope="col">{said[what]}</th>
            </tr>
          </thead>
          <tbody>
            {sums.days.map((day) => (
              <tr key={day.day}>
                <td>{day.day}</td>
                <td>{words(day[what])}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Words>
    </>
  )
}

function Ranked({ lines }: { lines: readonly { name: string; count: number; words: string }[] }) {
  const said = useTexts().history
  const most = Math.max(1, ...lines.map((line) => line.count))
  if (!lines.length) return <>{said.nothing}</>
  return (
    <Shares>
      {lines.map((line) => (
        <li key={line.name}>
          <Share style={{ width: `${(100 * line.count) / most}%` }} />
          <span>
            <SafeText>{line.name}</SafeText>
          </span>
          <span>{line.words}</span>
        </li>
      ))}
    </Shares>
  )
}
