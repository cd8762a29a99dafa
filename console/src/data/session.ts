// Who is signed in.
import { useMutation, useQuery, useQueryClient, type QueryClient } from '@tanstack/react-query'
import { api, type Me } from '../api/client'

export function useMe() {
  return useQuery({ queryKey: ['me'], queryFn: api.me, staleTime: 60_000 })
}

export function useSignIn() {
  const queries = useQueryClient()
  return useMutation({ mutationFn: api.signIn, onSuccess: (me) => become(queries, me) })
}

export function useSignOut() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: api.signOut,
    onSuccess: () => become(queries, { recipient: null, groups: [], administers: false }),
  })
}

/** What somebody else was shown is not for whoever comes next. */
function become(queries: QueryClient, me: Me) {
  queries.removeQueries({ predicate: (query) => query.queryKey[0] !== 'me' })
  queries.setQueryData(['me'], me)
}
