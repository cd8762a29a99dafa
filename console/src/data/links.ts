// Links: those there are, making one, ending one.
import { useInfiniteQuery, useMutation, useQueryClient } from '@tanstack/react-query'
import { api, type LinkAsk, type LinkFacts } from '../api/client'

/** Links, the newest first: one's own, and for administrators everybody's. */
export function useLinks() {
  const query = useInfiniteQuery({
    queryKey: ['links'],
    queryFn: ({ pageParam }) => api.links(pageParam),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => page.next,
  })
  return { ...query, links: query.data?.pages.flatMap((page) => page.links) ?? [] }
}

export function useMakeLink() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: api.makeLink,
    onSuccess: () => queries.invalidateQueries({ queryKey: ['links'] }),
  })
}

export function useRevokeLink() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: api.revokeLink,
    onSuccess: () => queries.invalidateQueries({ queryKey: ['links'] }),
  })
}

/** What the form for a link holds; texts as they were typed. */
export interface LinkForm {
  address: string
  days: string // how long it holds; empty: without an end
  uses: string
  to: string
  net: string
}

export const EMPTY: LinkForm = { address: '', days: '7', uses: '', to: '', net: '' }

/** What is asked of the service. */
export function asked(form: LinkForm): LinkAsk {
  return {
    address: form.address.trim().replace(/^\//, ''),
    ...(form.days && { seconds: Math.round(Number(form.days) * 86_400) }),
    ...(form.uses && { uses: Number(form.uses) }),
    ...(form.to.trim() && { to: form.to.trim() }),
    ...(form.net.trim() && { net: [form.net.trim()] }),
  }
}

/** What the link will mean, as a sentence; null as long as no file is named. */
export function meaning(form: LinkForm, now: Date): string | null {
  const name = form.address.trim().split('/').at(-1)
  if (!name) return null
  const whom = form.to.trim()
    ? `Whoever has this link, which is made for ${form.to.trim()},`
    : 'Anyone with this link'
  const count = form.uses ? ` ${times(Number(form.uses))}` : ''
  const parts = [`${whom} can save ${name}${count}`]
  if (form.net.trim()) parts.push(`from the network ${form.net.trim()}`)
  parts.push(form.days ? `until ${endOf(form, now)}` : 'for good')
  return `${parts.join(', ')}.`
}

function times(count: number): string {
  return count === 1 ? 'once' : count === 2 ? 'twice' : `${count} times`
}

function endOf(form: LinkForm, now: Date): string {
  const end = new Date(now.getTime() + Number(form.days) * 86_400_000)
  return end.toLocaleString(undefined, { dateStyle: 'full', timeStyle: 'short' })
}

const SOON = 86_400_000 // milliseconds

/** How a link stands, in words; one that holds and ends within a day ends soon. */
export function standing(
  link: LinkFacts,
  now: Date,
): 'good' | 'ends soon' | 'expired' | 'used up' | 'revoked' {
  if (link.state === 'used-up') return 'used up'
  if (link.state !== 'holds') return link.state
  return link.until && new Date(link.until).getTime() - now.getTime() < SOON ? 'ends soon' : 'good'
}
