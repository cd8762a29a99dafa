// How the service is, its keys, and its audit.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { answered, http } from '../api/client'

export function useServiceState() {
  return useQuery({
    queryKey: ['service'],
    queryFn: () => answered(http.GET('/api/service')),
    refetchInterval: 5000,
  })
}

export function useKeys() {
  return useQuery({ queryKey: ['keys'], queryFn: () => answered(http.GET('/api/keys')) })
}

function useKeyChange<Given>(change: (given: Given) => Promise<unknown>) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: () => queries.invalidateQueries({ queryKey: ['keys'] }),
  })
}

export function useMakeKey() {
  return useKeyChange(() => answered(http.POST('/api/keys')))
}

export function useRetireKey() {
  return useKeyChange((key: string) =>
    answered(http.DELETE('/api/keys/{key}', { params: { path: { key } } })),
  )
}

export function useAudit() {
  return useQuery({
    queryKey: ['audit'],
    queryFn: () => answered(http.GET('/api/audit', { params: { query: { limit: 100 } } })),
  })
}
