// How much arrives a second, over the last two minutes, of the transfers that one sees.
import { useEffect, useRef, useState } from 'react'
import type { Transfer } from '../api/client'
import { useAllTransfers } from './transfers'

export interface Point {
  readonly at: number // seconds before now, as a negative number
  readonly rate: number // bytes a second
}

const SECONDS = 120

/** The rates one by one, the newest last, as points in time. */
export function pointsOf(rates: readonly number[]): Point[] {
  return rates.map((rate, place) => ({ at: place + 1 - rates.length, rate }))
}

/** What all running transfers have a second together. */
export function rateOf(transfers: readonly Pick<Transfer, 'state' | 'rate'>[]): number {
  return transfers.reduce((sum, one) => sum + (one.state === 'running' ? (one.rate ?? 0) : 0), 0)
}

export function useThroughput(): Point[] {
  const transfers = useAllTransfers()
  const newest = useRef(transfers)
  const [rates, setRates] = useState<readonly number[]>([])
  useEffect(() => {
    newest.current = transfers
  }, [transfers])
  useEffect(() => {
    const ticking = setInterval(
      () => setRates((before) => [...before.slice(1 - SECONDS), rateOf(newest.current)]),
      1000,
    )
    return () => clearInterval(ticking)
  }, [])
  return pointsOf(rates)
}
