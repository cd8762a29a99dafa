// A chart of throughput, drawn by a plotting library; with what it shows now in words beside it.
import styled from 'styled-components'
import { Area, AreaChart, ResponsiveContainer, XAxis, YAxis } from 'recharts'
import { useThroughput } from '../data/throughput'
import { useTexts } from '../texts'
import { token } from '../theme'
import { sizeText } from './format'

const Figure = styled.figure`
  margin: 0;
  padding: 0.6rem 0.8rem 0.2rem;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.surface};
  figcaption {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    gap: 0 1rem;
    color: ${token.quiet};
    font-size: ${token.type.small};
  }
  text {
    fill: ${token.quiet};
    font-size: 0.75rem;
  }
`

export default function Throughput() {
  const points = useThroughput()
  const said = useTexts().transfers
  const now = points.at(-1)?.rate ?? 0
  return (
    <Figure>
      <figcaption>
        <span>{said.throughput}</span>
        <b>{said.throughputNow(sizeText(now))}</b>
      </figcaption>
      <div aria-hidden="true">
        <ResponsiveContainer width="100%" height={110}>
          <AreaChart
            data={[...points]}
            margin={{ top: 6, right: 4, bottom: 0, left: 0 }}
            accessibilityLayer={false}
          >
            <XAxis dataKey="at" type="number" domain={[-120, 0]} ticks={[-120, -90, -60, -30, 0]} unit=" s" />
            <YAxis
              width={86}
              domain={[0, (most: number) => Math.max(most, 1024)]}
              tickFormatter={(rate: number) => `${sizeText(rate)}/s`}
              tickCount={3}
            />
            <Area
              type="monotone"
              dataKey="rate"
              stroke={token.accent}
              fill={token.wash}
              strokeWidth={2}
              isAnimationActive={false}
            />
          </AreaChart>
        </ResponsiveContainer>
      </div>
    </Figure>
  )
}
