import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import {
  createRootRoute,
  createRoute,
  createRouter,
  lazyRouteComponent,
  redirect,
  RouterProvider,
} from '@tanstack/react-router'
import { I18nProvider } from 'react-aria-components'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { Refused, Unreachable } from './api/problems'
import { root as below } from './api/root'
import { placeHere } from './data/place'
import { watchSession } from './data/session'
import { Files } from './pages/Files'
import { Notice } from './components/Notice'
import { NotFound } from './pages/NotFound'
import { Shell } from './components/Shell'
import { readFilters } from './data/history'
import { readLook } from './data/look'
import { language, loadLanguage, useLanguage } from './texts'
import { GlobalStyle } from './theme'

const root = createRootRoute({
  component: Shell,
  errorComponent: ({ error }) => <Notice error={error as Error} />,
  notFoundComponent: NotFound,
})
const routes = [
  createRoute({
    getParentRoute: () => root,
    path: '/',
    beforeLoad: () => redirect({ to: '/files/$', params: { _splat: '' }, throw: true }),
  }),
  createRoute({ getParentRoute: () => root, path: '/files/$', component: Files, validateSearch: readLook }),
  // What is not looked at first is loaded when one goes there.
  createRoute({
    getParentRoute: () => root,
    path: '/links',
    component: lazyRouteComponent(() => import('./pages/Links'), 'Links'),
    validateSearch: (search: Record<string, unknown>): { file?: string | undefined } => ({
      file: typeof search['file'] === 'string' ? search['file'] : undefined,
    }),
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/transfers',
    component: lazyRouteComponent(() => import('./pages/Transfers'), 'Transfers'),
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/transfers/$id',
    component: lazyRouteComponent(() => import('./pages/TransferPage'), 'TransferPage'),
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/history',
    component: lazyRouteComponent(() => import('./pages/History'), 'History'),
    validateSearch: readFilters,
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/access/$part',
    component: lazyRouteComponent(() => import('./pages/access/Access'), 'Access'),
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/people',
    component: lazyRouteComponent(() => import('./pages/People'), 'People'),
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/people/$id',
    component: lazyRouteComponent(() => import('./pages/Person'), 'Person'),
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/service',
    component: lazyRouteComponent(() => import('./pages/Service'), 'Service'),
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/account',
    component: lazyRouteComponent(() => import('./pages/Account'), 'Account'),
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/sign-in',
    component: lazyRouteComponent(() => import('./pages/SignIn'), 'SignIn'),
    // Named even when it is refused: a search that is left out keeps what the address bar says.
    validateSearch: (search: Record<string, unknown>): { then?: string | undefined } => ({
      then: placeHere(search['then']),
    }),
  }),
] as const

const router = createRouter({ routeTree: root.addChildren([...routes]), basepath: below + '/console' })

declare module '@tanstack/react-router' {
  interface Register {
    router: typeof router
  }
}

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      // A refusal is an answer; only a lost connection is worth another try, for as long as it takes.
      retry: (count, error) => !(error instanceof Refused) && count < 1,
      refetchInterval: (query) => (query.state.error instanceof Unreachable ? 3000 : false),
      // A browser that takes itself to be offline may well reach the service.
      networkMode: 'always',
    },
    mutations: { networkMode: 'always' },
  },
})

watchSession(queries)

/** What the components say by themselves is in the same language as the rest. */
function InLanguage() {
  return (
    <I18nProvider locale={useLanguage()}>
      <RouterProvider router={router} />
    </I18nProvider>
  )
}

const place = document.getElementById('root')
void loadLanguage(language()).then(() => {
  if (place)
    createRoot(place).render(
      <StrictMode>
        <QueryClientProvider client={queries}>
          <GlobalStyle />
          <InLanguage />
        </QueryClientProvider>
      </StrictMode>,
    )
})
