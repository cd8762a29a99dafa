// Transfers: those there were, and the stream of how they go.
//
// Hundreds may move at once, and only those rows are drawn that are seen: so the list is of ids, which stay the same
// objects, and what is known of each is asked for by the cells that show it.
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState, useSyncExternalStore } from 'react'
import { answered, http, streamPath, type Transfer } from '../api/client'

/** How many transfers are shown. */
export const SHOWN = 500

const EVERY = 250 // milliseconds in which changes are gathered before they are shown

type Listener = () => void

/** What is known of transfers by their ids; whoever shows one is told when that has changed. */
export class TransferBoard {
  private readonly known = new Map<string, Transfer>()
  private readonly listeners = new Map<string, Set<Listener>>()
  private readonly watching = new Set<Listener>()
  private newestFirst: readonly Transfer[] = []

  get(id: string): Transfer | undefined {
    return this.known.get(id)
  }

  all(): readonly Transfer[] {
    return this.newestFirst
  }

  /** Takes over what is told of some of them; `only`: there are no others. */
  take(told: Iterable<Transfer>, only = false): void {
    const changed = [...told]
    if (only) this.known.clear()
    for (const transfer of changed) this.known.set(transfer.id, transfer)
    // Ids grow with time.
    this.newestFirst = [...this.known.values()].sort((a, b) => (a.id < b.id ? 1 : -1)).slice(0, SHOWN)
    if (this.known.size > SHOWN) {
      this.known.clear()
      for (const transfer of this.newestFirst) this.known.set(transfer.id, transfer)
    }
    for (const { id } of changed) for (const listener of this.listeners.get(id) ?? []) listener()
    for (const listener of this.watching) listener()
  }

  watchAll = (listener: Listener): Listener => {
    this.watching.add(listener)
    return () => this.watching.delete(listener)
  }

  watch(id: string, listener: Listener): Listener {
    const all = this.listeners.get(id) ?? new Set()
    this.listeners.set(id, all.add(listener))
    return () => {
      all.delete(listener)
      if (!all.size) this.listeners.delete(id)
    }
  }
}

const board = new TransferBoard()

/** What a transfer is of; its id where nothing is known of it. */
export function addressOf({ id }: { readonly id: string }): string {
  return board.get(id)?.address ?? id
}

/** One transfer as it is now. */
export function useLiveTransfer(id: string): Transfer | undefined {
  return useSyncExternalStore(
    (listener) => board.watch(id, listener),
    () => board.get(id),
  )
}

/** All transfers as they are now, the newest first: another list each time that something has moved. */
export function useAllTransfers(): readonly Transfer[] {
  return useSyncExternalStore(board.watchAll, () => board.all())
}

/** Follows transfers. `live` says that the stream is open. */
export function useTransfers() {
  const queries = useQueryClient()
  const [live, setLive] = useState(false)
  const seen = useVisible()
  const query = useQuery({
    queryKey: ['transfers'],
    queryFn: async ({ signal }) => {
      const params = { query: { limit: SHOWN } }
      const { transfers } = await answered(http.GET('/api/transfers', { params, signal }))
      board.take(transfers, true)
      return transfers.length
    },
  })

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
      board.take(changed.values())
      changed.clear()
    }, EVERY)
    return () => {
      clearInterval(shown)
      stream.close()
    }
  }, [queries, seen])

  return { isPending: query.isPending, error: query.error, live }
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
