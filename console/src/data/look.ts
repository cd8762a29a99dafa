// How one looks at a folder, as the address bar has it: which file is shown, what is searched for, in which order.
import type { Sort } from './files'

export interface Look {
  show?: string | undefined
  search?: string | undefined
  sort?: Sort | undefined
}

const SORTS: readonly Sort[] = ['name', '-name', 'size', '-size', 'modified', '-modified', 'type', '-type']

export function readLook(search: Record<string, unknown>): Look {
  const text = (name: string) => (typeof search[name] === 'string' ? search[name] : undefined)
  return {
    show: text('show'),
    search: text('search')?.slice(0, 200),
    sort: SORTS.find((sort) => sort === search['sort']),
  }
}
