// Transfers: those there were, and the stream of how they go.
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api, type Transfer } from '../api/client'

const KEPT = 200

/** Transfers, newest first. `live` says that the stream is open. */
export function useTransfers() {
  const queries = useQueryClient()
  const [live, setLive] = useState(false)
  const query = useQuery({ queryKey: ['transfers'], queryFn: async () => (await api.transfers()).transfers })

  useEffect(() => {
    const stream = new EventSource('/api/transfers/stream')
    stream.addEventListener('open', () => {
      setLive(true)
      // What happened while the stream was closed is in the list.
      void queries.invalidateQueries({ queryKey: ['transfers'] })
    })
    stream.addEventListener('error', () => setLive(false))
    stream.addEventListener('transfer', (event: MessageEvent<string>) => {
      const changed = JSON.parse(event.data) as Transfer
      queries.setQueryData<Transfer[]>(['transfers'], (known) => withTransfer(known ?? [], changed))
    })
    return () => stream.close()
  }, [queries])

  return { transfers: query.data ?? [], isPending: query.isPending, error: query.error, live }
}

function withTransfer(known: Transfer[], changed: Transfer): Transfer[] {
  const place = known.findIndex((transfer) => transfer.id === changed.id)
  if (place >= 0) return known.map((transfer, at) => (at === place ? changed : transfer))
  // Ids grow with time.
  return [changed, ...known].sort((a, b) => (a.id < b.id ? 1 : -1)).slice(0, KEPT)
}
