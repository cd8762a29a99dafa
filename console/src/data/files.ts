// What is in a folder, and what can be done with a selection of it.
import { useInfiniteQuery, useMutation } from '@tanstack/react-query'
import { api, deliveryPath, type FileEntry } from '../api/client'

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

/** Makes an archive of addresses and has the browser fetch it. */
export function useBundle() {
  return useMutation({
    mutationFn: api.bundle,
    onSuccess: (bundle) => save(bundle.url),
  })
}

/** Has the browser fetch files, one after the other; it asks the person itself when they are many. */
export async function saveEach(addresses: string[]): Promise<void> {
  for (const address of addresses) {
    save(deliveryPath(address))
    // Browsers drop downloads that are asked for in the same moment.
    await new Promise((resolve) => setTimeout(resolve, 250))
  }
}

export function save(path: string): void {
  const anchor = document.createElement('a')
  anchor.href = path
  anchor.download = ''
  document.body.append(anchor)
  anchor.click()
  anchor.remove()
}
