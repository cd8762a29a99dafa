// What stands around every page: the name, where one can go, who one is, and what is wrong everywhere.
import { Link, Outlet, useNavigate, useRouter, useRouterState } from '@tanstack/react-router'
import { RouterProvider as LinkProvider } from 'react-aria-components'
import { Suspense, useCallback } from 'react'
import styled from 'styled-components'
import { useRulesFault } from '../data/rules'
import { root } from '../api/root'
import { useEnded, useMe, useSignOut } from '../data/session'
import { LANGUAGES, setLanguage, useLanguage, useTexts, type Language } from '../texts'
import { token } from '../theme'
import { Button } from './Button'
import { timeText } from './format'
import { PageBoundary } from './PageBoundary'

const Skip = styled.a`
  position: absolute;
  left: -999px;
  &:focus {
    left: 0.5rem;
    top: 0.5rem;
    z-index: 10;
    padding: 0.5rem 1rem;
    background: ${token.raised};
  }
`

const Bar = styled.header`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 1.2rem;
  padding: 0.5rem 1.6rem;
  border-bottom: 1px solid ${token.line};
  background: ${token.surface};
  @media (max-width: 40rem) {
    padding: 0.5rem 0.8rem;
  }
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
  flex: 1 1 auto;
  flex-wrap: wrap;
  gap: 0 0.2rem;
  a {
    padding: 0.35rem 0.65rem;
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
  @media (max-width: 40rem) {
    order: 3;
    flex-basis: 100%;
  }
  @media (forced-colors: active) {
    a[aria-current='page'] {
      border-bottom: 3px solid;
    }
  }
`

const Page = styled.main`
  max-width: 84rem;
  margin: 0 auto;
  padding: 1.2rem 1.6rem 8rem;
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
  display: flex;
  align-items: center;
  gap: 0.6rem;
  color: ${token.quiet};
  b {
    color: ${token.ink};
  }
`

const Tongue = styled.select`
  border: 0;
  background: transparent;
  color: ${token.quiet};
  font: inherit;
  option {
    background: ${token.raised};
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
  const texts = useTexts()
  const broken = useRulesFault()
  const ended = useEnded()
  // Where one is once it is there: until then what failed is still what is drawn.
  const place = useRouterState({
    select: (state) => state.resolvedLocation?.pathname.replace(/\/$/, '') ?? '',
  })
  const { history } = useRouter()
  const navigate = useCallback((path: string) => history.push(path), [history])
  return (
    <LinkProvider navigate={navigate}>
      <Skip href="#page">{texts.shell.skip}</Skip>
      <Bar>
        <Name>
          <img src={`${root}/console/mark.svg`} alt="" /> Invio
        </Name>
        <Navigation />
        <Account />
      </Bar>
      {broken && (
        <Alarm role="alert">
          <b>{texts.shell.rulesBroken}</b> {texts.shell.rulesInForce(timeText(broken.since))}
          <p>{broken.fault}</p>
        </Alarm>
      )}
      {ended && (
        <Alarm role="alert">
          <b>{texts.shell.sessionOver(ended)}</b> {texts.shell.openToAll}{' '}
          <a href={signInPath()}>{texts.shell.signInAgain}</a>
          {texts.shell.andComeBack}
        </Alarm>
      )}
      <Page id="page">
        <PageBoundary place={place}>
          <Suspense fallback={<p role="status">{texts.common.looking}</p>}>
            <Outlet />
          </Suspense>
        </PageBoundary>
      </Page>
    </LinkProvider>
  )
}

function Navigation() {
  const me = useMe().data
  const { pages } = useTexts()
  const inAccess = useRouterState({ select: (state) => state.location.pathname.includes('/access/') })
  return (
    <Places aria-label={pages.label}>
      <Link to="/files/$" params={{ _splat: '' }} activeOptions={{ exact: false }}>
        {pages.files}
      </Link>
      {me?.recipient && (
        <>
          <Link to="/links">{pages.links}</Link>
          <Link to="/transfers">{pages.transfers}</Link>
          <Link to="/history">{pages.history}</Link>
        </>
      )}
      {me?.administers && (
        <>
          <Link
            to="/access/$part"
            params={{ part: 'why' }}
            {...(inAccess && { 'aria-current': 'page' as const })}
          >
            {pages.access}
          </Link>
          <Link to="/people">{pages.people}</Link>
          <Link to="/service">{pages.service}</Link>
        </>
      )}
    </Places>
  )
}

function Account() {
  const me = useMe()
  const signOut = useSignOut()
  const navigate = useNavigate()
  const tongue = useLanguage()
  const texts = useTexts()
  const recipient = me.data?.recipient
  return (
    <Who>
      <Tongue
        aria-label={texts.shell.language}
        value={tongue}
        onChange={(event) => void setLanguage(event.target.value as Language)}
      >
        {Object.entries(LANGUAGES).map(([name, words]) => (
          <option key={name} value={name} lang={name}>
            {words}
          </option>
        ))}
      </Tongue>
      {recipient ? (
        <>
          <Link to="/account" aria-label={`${texts.pages.account}: ${recipient}`}>
            <b>{recipient}</b>
          </Link>
          <Button
            onPress={() => signOut.mutate(undefined, { onSuccess: () => void navigate({ to: '/sign-in' }) })}
          >
            {texts.shell.signOut}
          </Button>
        </>
      ) : (
        me.isSuccess && (
          <Button onPress={() => window.location.assign(signInPath())}>{texts.shell.signIn}</Button>
        )
      )}
    </Who>
  )
}
