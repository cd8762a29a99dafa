// The history: lines and sums, by filters that stand in the address bar.
import { useQuery } from '@tanstack/react-query'
import { answered, http, type Transfer } from '../api/client'
import { refusalOf } from '../api/problems'
import { root } from '../api/root'

export const LISTED = 300 // lines
const STATES = ['running', 'complete', 'partial', 'broken-off', 'handed-off', 'refused'] as const
type State = (typeof STATES)[number]

/** The filters, as the address bar has them: texts alone, days as `2026-01-15`. */
export interface HistoryFilters {
  recipient?: string | undefined
  address?: string | undefined
  link?: string | undefined
  state?: string | undefined
  since?: string | undefined
  until?: string | undefined
}

export type HistoryLine = Omit<Transfer, 'state'> & {
  state: State
  network: string | null
  credential: string | null
  decided_by: string | null
}

const DAY = /^\d{4}-\d{2}-\d{2}$/

/** Filters that the address bar holds; what is none of them is left out. */
export function readFilters(search: Record<string, unknown>): HistoryFilters {
  const text = (name: string) => {
    const value = search[name]
    return typeof value === 'string' && value.trim() ? value.trim().slice(0, 300) : undefined
  }
  const day = (name: string) => (DAY.test(text(name) ?? '') ? text(name) : undefined)
  const state = STATES.find((one) => one === search['state'])
  return {
    recipient: text('recipient'),
    address: text('address'),
    link: text('link'),
    state,
    since: day('since'),
    until: day('until'),
  }
}

/** The same as the service is asked for it: days begin and end by the reader's own clock. */
export function asked(filters: HistoryFilters) {
  const begins = (day: string) => new Date(`${day}T00:00`).getTime() / 1000
  return {
    ...(filters.recipient && { recipient: filters.recipient }),
    ...(filters.address && { address: filters.address }),
    ...(filters.link && { link: filters.link }),
    ...(filters.state && { state: filters.state as State }),
    ...(filters.since && { since: begins(filters.since) }),
    ...(filters.until && { until: begins(filters.until) + 86_400 }),
  }
}

/** Where the filtered history is had as a file. */
export function exportPath(filters: HistoryFilters, format: 'csv' | 'jsonl'): string {
  const query = new URLSearchParams({ format })
  for (const [name, value] of Object.entries(asked(filters))) query.set(name, String(value))
  return `${root}/api/history?${query}`
}

export function useSums(filters: HistoryFilters) {
  return useQuery({
    queryKey: ['history-sums', filters],
    queryFn: ({ signal }) => {
      const query = { ...asked(filters), zone: -new Date().getTimezoneOffset() }
      return answered(http.GET('/api/history/summary', { params: { query }, signal }))
    },
  })
}

export function useLines(filters: HistoryFilters) {
  return useQuery({
    queryKey: ['history', filters],
    queryFn: async ({ signal }) => {
      const path = `${exportPath(filters, 'jsonl')}&limit=${LISTED}`
      const response = await fetch(path, {
        signal,
        headers: { accept: 'application/jsonl, application/json' },
      })
      if (!response.ok) throw refusalOf(response, await response.json().catch(() => null))
      const text = await response.text()
      return text
        .split('\n')
        .filter(Boolean)
        .map((line) => JSON.parse(line) as HistoryLine)
    },
  })
}
