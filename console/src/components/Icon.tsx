import styled from 'styled-components'
import { token } from '../theme'

const Drawing = styled.svg`
  flex: none;
  width: 1.05rem;
  height: 1.05rem;
  fill: none;
  stroke: ${token.accent};
  stroke-width: 1.4;
  stroke-linejoin: round;
  stroke-linecap: round;
`

const PATHS = {
  folder: 'M1.500 12.800v-9.500h4.500l1.500 1.800h7v7.700z',
  file: 'M3.500 1.500h6l3 3v10h-9z M9.500 1.500v3h3',
  save: 'M8 2v8 M4.800 7l3.200 3.200L11.200 7 M2.500 13.500h11',
}

/** A small drawing beside a word, which says the same. */
export function Icon({ of }: { of: keyof typeof PATHS }) {
  return (
    <Drawing viewBox="0 0 16 16" aria-hidden="true">
      <path d={PATHS[of]} />
    </Drawing>
  )
}
