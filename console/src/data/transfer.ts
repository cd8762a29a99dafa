// One transfer: how it stands, as it goes, and how it went since one looks.
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { answered, http } from '../api/client'

const RUNS = 1000 // milliseconds between two looks at one that runs
const RESTS = 5000
const MOST = 600 // points of the chart

export function useTransfer(id: string) {
  return useQuery({
    queryKey: ['transfer', id],
    queryFn: () => answered(http.GET('/api/transfers/{transfer}', { params: { path: { transfer: id } } })),
    refetchInterval: (query) => (query.state.data?.state === 'running' ? RUNS : RESTS),
  })
}

/** Its requests that have ended; looked up again when there are more. */
export function useTransferRequests(id: string, count: number) {
  return useQuery({
    queryKey: ['transfer', id, 'requests', count],
    queryFn: () =>
      answered(http.GET('/api/transfers/{transfer}/requests', { params: { path: { transfer: id } } })),
    placeholderData: keepPreviousData,
    refetchInterval: RESTS,
  })
}

export function useEndTransfer(id: string) {
  return useMutation({
    mutationFn: () =>
      answered(http.DELETE('/api/transfers/{transfer}', { params: { path: { transfer: id } } })),
  })
}

export interface Arrived {
  readonly seconds: number
  readonly bytes: number
}

/** How much had arrived, second by second since one looks; null where that is not known yet. */
export function useArrived(bytes: number | null): readonly Arrived[] {
  const newest = useRef(bytes)
  const [points, setPoints] = useState<readonly Arrived[]>([])
  useEffect(() => {
    newest.current = bytes
  }, [bytes])
  useEffect(() => {
    const began = Date.now()
    const ticking = setInterval(() => {
      const arrived = newest.current
      if (arrived === null) return
      const point = { seconds: Math.round((Date.now() - began) / 1000), bytes: arrived }
      setPoints((before) => [...before.slice(-MOST), point])
    }, RUNS)
    return () => clearInterval(ticking)
  }, [])
  return points
}
