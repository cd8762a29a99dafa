// Transfers: those there were, and the stream of how they go.
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { answered, http, streamPath, type Transfer } from '../api/client'

/** How many transfers are shown. */
export const SHOWN = 200

const EVERY = 250 // milliseconds in which changes are gathered before they are shown

/** Transfers, newest first. `live` says that the stream is open. */
export function useTransfers() {
  const queries = useQueryClient()
  const [live, setLive] = useState(false)
  const query = useQuery({
    queryKey: ['transfers'],
    queryFn: async () =>
      (await answered(http.GET('/api/transfers', { params: { query: { limit: SHOWN } } }))).transfers,
  })
  const seen = useVisible()

  useEffect(() => {
    // A browser has six connections to a host: one that nobody looks at is for other tabs.
    if (!seen) return
    const changed = new Map<string, Transfer>()
    const stream = new EventSource(streamPath)
    stream.addEventListener('open', () => {
      setLive(true)
      // What happened while the stream was closed is in the list.
      void queries.invalidateQueries({ queryKey: ['transfers'] })
    })
    stream.addEventListener('error', () => {
      setLive(false)
      // One that is not tried again was refused: whoever asks may be signed out.
      if (stream.readyState === EventSource.CLOSED) void queries.invalidateQueries({ queryKey: ['me'] })
    })
    stream.addEventListener('transfer', (event: MessageEvent<string>) => {
      const transfer = JSON.parse(event.data) as Transfer
      changed.set(transfer.id, transfer)
    })
    const shown = setInterval(() => {
      if (!changed.size) return
      queries.setQueryData<Transfer[]>(['transfers'], (known) => merged(known ?? [], changed))
      changed.clear()
    }, EVERY)
    return () => {
      clearInterval(shown)
      stream.close()
    }
  }, [queries, seen])

  return { transfers: query.data ?? [], isPending: query.isPending, error: query.error, live }
}

/** The list with what changed. Those that did not are the same objects, so that their rows are not drawn again. */
export function merged(known: Transfer[], changed: Map<string, Transfer>): Transfer[] {
  const there = new Set(known.map((transfer) => transfer.id))
  const added = [...changed.values()].filter((transfer) => !there.has(transfer.id))
  const kept = known.map((transfer) => changed.get(transfer.id) ?? transfer)
  // Ids grow with time.
  return added.length ? [...added, ...kept].sort((a, b) => (a.id < b.id ? 1 : -1)).slice(0, SHOWN) : kept
}

function useVisible(): boolean {
  const [visible, setVisible] = useState(!document.hidden)
  useEffect(() => {
    const look = () => setVisible(!document.hidden)
    document.addEventListener('visibilitychange', look)
    return () => document.removeEventListener('visibilitychange', look)
  }, [])
  return visible
}
