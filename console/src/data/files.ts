// What is in a folder, and what can be done with a selection of it.
import { useState } from 'react'
import { useInfiniteQuery, useMutation } from '@tanstack/react-query'
import { api, deliveryPath, type FileEntry, type Version } from '../api/client'
import { pause, save } from './downloads'

/** The entries of a folder (`store/folder/`), or the stores for null; further pages on demand. */
export function useFolder(folder: string | null) {
  const query = useInfiniteQuery({
    queryKey: ['files', folder],
    queryFn: ({ pageParam }) => api.files(folder, pageParam),
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.next,
  })
  const entries: FileEntry[] = query.data?.pages.flatMap((page) => page.files) ?? []
  return { ...query, entries }
}

/** The versions of a file, the newest first; further pages on demand. */
export function useVersions(address: string) {
  const query = useInfiniteQuery({
    queryKey: ['versions', address],
    queryFn: ({ pageParam }) => api.versions(address, pageParam),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => page.next,
  })
  const versions: Version[] = query.data?.pages.flatMap((page) => page.versions) ?? []
  return { ...query, versions }
}

/** Makes an archive of addresses and has the browser fetch it; `files` is how many are in its plan so far. */
export function useBundle() {
  const [files, setFiles] = useState(0)
  const [refused, setRefused] = useState<Error | null>(null)
  const bundle = useMutation({
    mutationFn: async ({ addresses, leaveOut }: { addresses: string[]; leaveOut: boolean }) => {
      setFiles(0)
      setRefused(null)
      let made = await api.bundle(addresses, leaveOut)
      while (made.preparing) {
        setFiles(made.preparing.files)
        await pause(150)
        made = await api.bundleNamed(made.id)
      }
      return made
    },
    onSuccess: (made) => save(deliveryPath(made.address), setRefused),
  })
  return { ...bundle, error: bundle.error ?? refused, files }
}
