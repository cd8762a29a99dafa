import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createRootRoute, createRoute, createRouter, redirect, RouterProvider } from '@tanstack/react-router'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { Refused } from './api/client'
import { placeHere } from './data/place'
import { Files } from './pages/Files'
import { SignIn } from './pages/SignIn'
import { Transfers } from './pages/Transfers'
import { Shell } from './components/Shell'
import { GlobalStyle } from './theme'

const root = createRootRoute({ component: Shell })
const routes = [
  createRoute({
    getParentRoute: () => root,
    path: '/',
    beforeLoad: () => redirect({ to: '/files/$', params: { _splat: '' }, throw: true }),
  }),
  createRoute({ getParentRoute: () => root, path: '/files/$', component: Files }),
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

const router = createRouter({ routeTree: root.addChildren([...routes]), basepath: '/console' })

declare module '@tanstack/react-router' {
  interface Register {
    router: typeof router
  }
}

const queries = new QueryClient({
  defaultOptions: {
    // A refusal is an answer; only a lost connection is worth another try.
    queries: { retry: (count, error) => !(error instanceof Refused) && count < 2 },
  },
})

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
