// The way from the stores to the present folder, each step a link.
import { useNavigate } from '@tanstack/react-router'
import { Breadcrumb as Step, Breadcrumbs, Link } from 'react-aria-components'
import styled from 'styled-components'
import { useTexts } from '../texts'
import { token } from '../theme'
import { SafeText } from './SafeText'

// styled() forgets that the steps have a type of their own.
const Steps = styled(Breadcrumbs)`
  display: flex;
  flex-wrap: wrap;
  margin: 0 0 1rem;
  padding: 0;
  list-style: none;
  font: 600 1.45rem/1.3 ${token.serif};
  li:not(:last-child)::after {
    margin: 0 0.45rem;
    color: ${token.line};
    content: '/';
  }
  a,
  span[role='link'] {
    color: ${token.accent};
    text-decoration: none;
    cursor: pointer;
    border-radius: 3px;
  }
  [data-hovered] {
    text-decoration: underline;
  }
  li[data-current] a,
  li[data-current] span {
    color: ${token.ink};
    cursor: default;
  }
` as unknown as typeof Breadcrumbs

export function Breadcrumb({ folder }: { folder: string }) {
  const navigate = useNavigate()
  const texts = useTexts().files
  const names = folder.split('/').filter(Boolean)
  const steps = [
    { id: '', name: texts.stores },
    ...names.map((name, place) => ({ id: names.slice(0, place + 1).join('/') + '/', name })),
  ]
  return (
    <nav aria-label={texts.foldersLabel}>
      <Steps
        items={steps}
        onAction={(id) => void navigate({ to: '/files/$', params: { _splat: String(id) } })}
      >
        {(step) => (
          <Step id={step.id}>
            <Link>
              <SafeText>{step.name}</SafeText>
            </Link>
          </Step>
        )}
      </Steps>
    </nav>
  )
}
