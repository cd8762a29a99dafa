// What is in a folder, what is known of a file, and what can be done with it and with selections.
import {
  keepPreviousData,
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
} from '@tanstack/react-query'
import { useDeferredValue, useMemo, useState } from 'react'
import {
  answered,
  deliveryPath,
  http,
  type Action,
  type Bundle,
  type FileEntry,
  type Version,
} from '../api/client'
import type { operations } from '../api/schema.gen'
import { pause, save } from './downloads'
import { useSame } from './stable'

export type Sort = NonNullable<NonNullable<operations['list_files']['parameters']['query']>['sort']>

// Entries that are had together: few at first, for all of them are drawn in one go.
const FIRST = 40
const MORE = 100

const addressOf = (entry: FileEntry) => entry.address

/** The entries of a folder (`store/folder/`), or the stores for null; further pages on demand. */
export function useFolder(folder: string | null, search: string, sort: Sort) {
  const query = useInfiniteQuery({
    queryKey: ['files', folder, search, sort],
    queryFn: ({ pageParam, signal }) =>
      answered(
        http.GET('/api/files', {
          params: {
            query: {
              limit: pageParam === null ? FIRST : MORE,
              ...(folder && { in: folder }),
              ...(pageParam && { after: pageParam }),
              ...(search && { search }),
              ...(sort !== 'name' && { sort }),
            },
          },
          signal,
        }),
      ),
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.next,
    // What was found before stays until there is something else to show.
    placeholderData: keepPreviousData,
  })
  // A long list is drawn bit by bit, and typing is not kept waiting by it.
  const pages = useDeferredValue(query.data?.pages)
  const found: FileEntry[] = useMemo(() => pages?.flatMap((page) => page.files) ?? [], [pages])
  // What one search finds as the one before did is not drawn again.
  const entries = useSame(found, addressOf)
  // It belongs to what is drawn, not to what is looked for meanwhile: so both change in one go.
  const has = Boolean(pages?.at(-1)?.next)
  const { fetchNextPage, isFetchingNextPage: loads } = query
  const more = useMemo(() => ({ has, loads, load: () => void fetchNextPage() }), [fetchNextPage, has, loads])
  return { ...query, entries, more }
}

/** What is known of one file; null asks nothing. */
export function useFile(address: string | null) {
  return useQuery({
    queryKey: ['file', address],
    queryFn: () =>
      answered(http.GET('/api/files/{address}', { params: { path: { address: address ?? '' } } })),
    enabled: address !== null,
  })
}

/** The versions of a file, the newest first; further pages on demand. */
export function useVersions(address: string) {
  const query = useInfiniteQuery({
    queryKey: ['versions', address],
    queryFn: ({ pageParam }) =>
      answered(
        http.GET('/api/versions/{address}', {
          params: { path: { address }, query: pageParam ? { before: pageParam } : {} },
        }),
      ),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => page.next,
  })
  const versions: Version[] = query.data?.pages.flatMap((page) => page.versions) ?? []
  return { ...query, versions }
}

/** Who may do something with a file, for those who manage it. */
export function useAudience(address: string, action: Action, enabled: boolean) {
  return useQuery({
    queryKey: ['audience', address, action],
    queryFn: () => answered(http.GET('/api/audience', { params: { query: { address, action } } })),
    enabled,
  })
}

function useFileChange<Given>(change: (given: Given) => Promise<unknown>) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: () =>
      Promise.all(['files', 'file', 'versions'].map((key) => queries.invalidateQueries({ queryKey: [key] }))),
  })
}

/** Makes an earlier version the newest again; of the newest, changes what is said of it. */
export function useRenew(address: string) {
  return useFileChange(({ version, description }: { version: number; description?: string }) =>
    answered(
      http.POST('/api/versions/{address}', {
        params: {
          path: { address },
          query: { version, ...(description !== undefined && { description }) },
        },
      }),
    ),
  )
}

export function useRemove(address: string) {
  return useFileChange(() => answered(http.DELETE('/api/files/{address}', { params: { path: { address } } })))
}

/**
 * Makes an archive of addresses; `files` is how many are in its plan so far.
 *
 * One that has all of them is fetched at once; of one that has not, somebody is told first what it leaves out.
 */
export function useBundle() {
  const [begun, setBegun] = useState(false)
  const [files, setFiles] = useState(0)
  const [refused, setRefused] = useState<Error | null>(null)
  const bundle = useMutation({
    mutationFn: async (addresses: string[]) => {
      setFiles(0)
      setBegun(false)
      setRefused(null)
      const body = {
        files: addresses,
        wait: false,
        on_problem: 'leave-out' as const,
        folders: 'keep' as const,
        sums: false,
      }
      let made = await answered(http.POST('/api/bundles', { body }))
      while (made.preparing) {
        setFiles(made.preparing.files)
        await pause(150)
        const path = { bundle_id: made.id }
        made = await answered(http.GET('/api/bundles/{bundle_id}', { params: { path } }))
      }
      return made
    },
    onSuccess: (made) => {
      if (!made.left_out.length) fetchIt(made)
    },
  })

  function fetchIt(made: Bundle) {
    setBegun(true)
    save(deliveryPath(made.address), setRefused)
  }

  return { ...bundle, error: bundle.error ?? refused, files, begun, fetchIt }
}
