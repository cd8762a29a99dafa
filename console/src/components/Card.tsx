import styled from 'styled-components'
import { token } from '../theme'

/** A part of a page that belongs together. */
export const Card = styled.section`
  margin: 1rem 0 1.4rem;
  padding: 1rem 1.3rem 1.2rem;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.surface};
  & > h2:first-child {
    margin-top: 0;
  }
  @media (max-width: 40rem) {
    padding: 0.8rem 0.9rem 1rem;
  }
`

/** Parts of a page beside each other, where there is room. */
export const Columns = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(24rem, 100%), 1fr));
  gap: 0 1.2rem;
  align-items: start;
`

/** Parts of very different heights, put where there is room for them. */
export const Packed = styled.div`
  columns: 2 24rem;
  column-gap: 1.2rem;
  margin-top: 1rem;
  & > * {
    margin: 0 0 1.2rem;
    break-inside: avoid;
  }
`

export const Quiet = styled.p`
  margin: 0.3rem 0;
  color: ${token.quiet};
`

export const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 0.6rem 0.9rem;
  margin: 0.6rem 0;
`

export const Title = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.4rem 1rem;
  margin: 0 0 1rem;
`

export const Aside = styled.div`
  color: ${token.quiet};
  font-size: ${token.type.small};
`
