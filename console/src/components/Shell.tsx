// What stands around every page: the name, where one can go, and who one is.
import { Link, Outlet, useNavigate } from '@tanstack/react-router'
import styled from 'styled-components'
import { useRulesFault } from '../data/rules'
import { root } from '../api/root'
import { useEnded, useMe, useSignOut } from '../data/session'
import { token } from '../theme'
import { Button } from './Button'
import { timeText } from './format'

const Bar = styled.header`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 1.6rem;
  padding: 0.65rem 1.6rem;
  border-bottom: 1px solid ${token.line};
  background: ${token.surface};
`

const Name = styled.span`
  display: flex;
  align-items: center;
  gap: 0.55rem;
  font: 600 1.25rem/1 ${token.serif};
  img {
    width: 1.7rem;
    height: 1.7rem;
  }
`

const Places = styled.nav`
  display: flex;
  flex: 1;
  gap: 0.4rem;
  a {
    padding: 0.35rem 0.8rem;
    border-radius: ${token.radius};
    color: ${token.quiet};
    font-weight: 600;
    text-decoration: none;
  }
  a:hover {
    background: ${token.wash};
  }
  a[aria-current='page'] {
    color: ${token.accent};
    box-shadow: inset 0 -2px ${token.accent};
    border-radius: ${token.radius} ${token.radius} 0 0;
  }
  @media (forced-colors: active) {
    a[aria-current='page'] {
      border-bottom: 3px solid;
    }
  }
`

const Page = styled.main`
  max-width: 76rem;
  margin: 0 auto;
  padding: 1.5rem 1.6rem 8rem;
  @media (max-width: 40rem) {
    padding: 1rem 0.8rem 11rem;
  }
`

const Alarm = styled.div`
  padding: 0.7rem 1.6rem;
  border-left: 4px solid ${token.bad};
  background: ${token.badWash};
  overflow-wrap: anywhere;
  p {
    margin: 0.15rem 0 0;
    color: ${token.quiet};
  }
`

const Who = styled.span`
  color: ${token.quiet};
  b {
    color: ${token.ink};
  }
`

/** Where to sign in, and from where to come back to this page. */
function signInPath(): string {
  const here = window.location.pathname + window.location.search
  const there = `${root}/console/sign-in`
  return here.startsWith(there) ? here : `${there}?then=${encodeURIComponent(here)}`
}

export function Shell() {
  const me = useMe()
  const signOut = useSignOut()
  const navigate = useNavigate()
  const broken = useRulesFault()
  const ended = useEnded()
  const recipient = me.data?.recipient
  return (
    <>
      <Bar>
        <Name>
          <img src={`${root}/console/mark.svg`} alt="" /> Invio
        </Name>
        <Places aria-label="Pages">
          <Link to="/files/$" params={{ _splat: '' }} activeOptions={{ exact: false }}>
            Files
          </Link>
          {recipient && <Link to="/links">Links</Link>}
          {recipient && <Link to="/transfers">Transfers</Link>}
        </Places>
        {recipient ? (
          <>
            <Who>
              <b>{recipient}</b>
              {me.data && me.data.groups.length > 0 && ` · ${me.data.groups.join(', ')}`}
            </Who>
            <Button
              onPress={() =>
                signOut.mutate(undefined, { onSuccess: () => void navigate({ to: '/sign-in' }) })
              }
            >
              Sign out
            </Button>
          </>
        ) : (
          me.isSuccess && <Button onPress={() => window.location.assign(signInPath())}>Sign in</Button>
        )}
      </Bar>
      {broken && (
        <Alarm role="alert">
          <b>The rules file cannot be used.</b> The rules of {timeText(broken.since)} are still in force.
          <p>{broken.fault}</p>
        </Alarm>
      )}
      {ended && (
        <Alarm role="alert">
          <b>The session of {ended} is over.</b> What is shown now is open to everyone.{' '}
          <a href={signInPath()}>Sign in again</a>, and come back to this page.
        </Alarm>
      )}
      <Page>
        <Outlet />
      </Page>
    </>
  )
}
