import { Line, LineChart, ResponsiveContainer, XAxis, YAxis } from 'recharts'
import type { Arrived } from '../data/transfer'
import { useTexts } from '../texts'
import { token } from '../theme'
import { durationText, sizeText } from './format'

/** How much had arrived when; what it shows is told in words beside it. */
export default function ArrivedChart({ points, size }: { points: readonly Arrived[]; size: number | null }) {
  const said = useTexts().transfer
  return (
    <div role="img" aria-label={said.overTime}>
      <ResponsiveContainer width="100%" height={190}>
        <LineChart
          data={[...points]}
          margin={{ top: 8, right: 8, bottom: 0, left: 0 }}
          accessibilityLayer={false}
        >
          <XAxis
            dataKey="seconds"
            type="number"
            domain={[0, (most: number) => Math.max(most, 30)]}
            tickFormatter={(seconds: number) => durationText(seconds)}
            stroke={token.quiet}
          />
          <YAxis
            width={72}
            domain={[0, size ?? 'auto']}
            tickFormatter={(bytes: number) => sizeText(bytes)}
            stroke={token.quiet}
          />
          <Line dataKey="bytes" stroke={token.accent} strokeWidth={2} dot={false} isAnimationActive={false} />
        </LineChart>
      </ResponsiveContainer>
    </div>
  )
}
