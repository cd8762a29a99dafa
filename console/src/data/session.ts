// Who is signed in, and whether they still are.
import { hashKey, useMutation, useQuery, useQueryClient, type QueryClient } from '@tanstack/react-query'
import { useSyncExternalStore } from 'react'
import { answered, http, type Me, type SignIn } from '../api/client'
import { Refused } from '../api/problems'

const ME = hashKey(['me'])
const NOBODY: Me = { recipient: null, groups: [], administers: false }

export function useMe() {
  return useQuery({
    queryKey: ['me'],
    queryFn: () => answered(http.GET('/api/sessions/current')),
    staleTime: 30_000,
    refetchInterval: 60_000,
  })
}

// Whose session is over without their having ended it; it is told until somebody signs in.
let over: string | null = null
const listeners = new Set<() => void>()

function setOver(who: string | null) {
  over = who
  for (const listener of listeners) listener()
}

/** Whose session has ended meanwhile; null when none has. */
export function useEnded(): string | null {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener)
      return () => listeners.delete(listener)
    },
    () => over,
  )
}

/** Notices that a session is over: by a refusal, or because somebody who was signed in is nobody now. */
export function watchSession(queries: QueryClient): void {
  let known: string | null = null
  queries.getQueryCache().subscribe((event) => {
    if (event.type !== 'updated') return
    if (event.query.queryHash === ME) {
      const me = event.query.state.data as Me | undefined
      if (known && me && !me.recipient && over === null) {
        setOver(known)
        // What was shown to them is not for everyone.
        void queries.resetQueries({ predicate: (query) => query.queryHash !== ME })
      }
      if (me) known = me.recipient
    } else if (isSignInWanted(event.query.state.error) && known) {
      void queries.invalidateQueries({ queryKey: ['me'] })
    }
  })
  queries.getMutationCache().subscribe((event) => {
    if (isSignInWanted(event.mutation?.state.error) && known)
      void queries.invalidateQueries({ queryKey: ['me'] })
  })
}

function isSignInWanted(error: unknown): boolean {
  return error instanceof Refused && error.status === 401
}

export function useSignIn() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (body: SignIn) => answered(http.POST('/api/sessions', { body })),
    onSuccess: (me) => become(queries, me),
  })
}

export function useSignOut() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: () => answered(http.DELETE('/api/sessions/current')),
    onSuccess: async () => {
      await become(queries, NOBODY)
      setOver(null)
    },
  })
}

/** What somebody else was shown is not for whoever comes next. */
async function become(queries: QueryClient, me: Me) {
  // An answer that is on its way is of before.
  await queries.cancelQueries()
  queries.removeQueries({ predicate: (query) => query.queryKey[0] !== 'me' })
  queries.setQueryData(['me'], me)
  if (me.recipient) setOver(null)
}
