// Who is signed in.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api } from '../api/client'

export function useMe() {
  return useQuery({ queryKey: ['me'], queryFn: api.me, staleTime: 60_000 })
}

export function useSignIn() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: api.signIn,
    onSuccess: (me) => {
      queries.clear() // what somebody else was shown is not for this one
      queries.setQueryData(['me'], me)
    },
  })
}

export function useSignOut() {
  const queries = useQueryClient()
  return useMutation({ mutationFn: api.signOut, onSuccess: () => queries.clear() })
}
