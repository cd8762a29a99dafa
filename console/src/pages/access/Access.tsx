import { Link, useParams } from '@tanstack/react-router'
import styled from 'styled-components'
import { usePage } from '../../data/page'
import { useTexts } from '../../texts'
import { token } from '../../theme'
import { Expectations } from './Expectations'
import { Matrix } from './Matrix'
import { Quotas } from './Quotas'
import { RulesList } from './RulesList'
import { RulesTrial } from './RulesTrial'
import { Why } from './Why'

const PARTS = {
  why: Why,
  matrix: Matrix,
  rules: RulesList,
  trial: RulesTrial,
  expectations: Expectations,
  quotas: Quotas,
} as const
type Part = keyof typeof PARTS

const Parts = styled.nav`
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1.1rem;
  margin: 0.6rem 0 1rem;
  border-bottom: 1px solid ${token.line};
  a {
    padding: 0.25rem 0;
    color: ${token.quiet};
    font-weight: 600;
    text-decoration: none;
  }
  a[aria-current='page'] {
    color: ${token.accent};
    box-shadow: inset 0 -2px ${token.accent};
  }
`

export function Access() {
  const { part } = useParams({ from: '/access/$part' })
  const said = useTexts().access
  const shown: Part = part in PARTS ? (part as Part) : 'why'
  const heading = usePage(`${said.title}: ${said[shown]}`)
  const Shown = PARTS[shown]
  return (
    <>
      <h1 {...heading}>{said.title}</h1>
      <Parts aria-label={said.title}>
        {(Object.keys(PARTS) as Part[]).map((name) => (
          <Link key={name} to="/access/$part" params={{ part: name }}>
            {said[name]}
          </Link>
        ))}
      </Parts>
      <Shown />
    </>
  )
}
