// Which parts of a file have arrived, drawn as a strip.
import styled from 'styled-components'
import { merged, type Span } from '../data/coverage'
import { useTexts } from '../texts'
import { token } from '../theme'

const Strip = styled.svg`
  display: block;
  width: 100%;
  height: 28px;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.ground};
  rect {
    fill: ${token.accent};
  }
  @media (forced-colors: active) {
    rect {
      fill: Highlight;
    }
  }
`

const WIDTH = 1000 // parts of the strip that are told apart

interface Given {
  coverage: readonly Span[]
  size: number
  percent: number
}

export function CoverageStrip({ coverage, size, percent }: Given) {
  const said = useTexts().transfer
  return (
    <Strip
      viewBox={`0 0 ${WIDTH} 10`}
      preserveAspectRatio="none"
      role="img"
      aria-label={`${said.coverageOf(percent)}: ${said.parts(coverage.length)}`}
    >
      {merged(coverage, size, WIDTH).map(([start, stop]) => (
        <rect key={start} x={start} width={stop - start} y="0" height="10" />
      ))}
    </Strip>
  )
}
