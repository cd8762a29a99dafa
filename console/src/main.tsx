import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createRootRoute, createRoute, createRouter, redirect, RouterProvider } from '@tanstack/react-router'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { Refused, Unreachable } from './api/problems'
import { root as below } from './api/root'
import { placeHere } from './data/place'
import { watchSession } from './data/session'
import { Files } from './pages/Files'
import { Links } from './pages/Links'
import { SignIn } from './pages/SignIn'
import { Transfers } from './pages/Transfers'
import { Notice } from './components/Notice'
import { NotFound } from './pages/NotFound'
import { Shell } from './components/Shell'
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
  createRoute({ getParentRoute: () => root, path: '/files/$', component: Files }),
  createRoute({ getParentRoute: () => root, path: '/links', component: Links }),
  createRoute({ getParentRoute: () => root, path: '/transfers', component: Transfers }),
  createRoute({
    getParentRoute: () => root,
    path: '/sign-in',
    component: SignIn,
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

const place = document.getElementById('root')
if (place)
  createRoot(place).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <GlobalStyle />
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  )
