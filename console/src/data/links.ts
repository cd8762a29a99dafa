// Links: those there are, making one, explaining one, ending one.
import { useInfiniteQuery, useMutation, useQueryClient } from '@tanstack/react-query'
import { answered, http, type LinkAsk, type LinkFacts } from '../api/client'
import { language, type Language } from '../texts'
import type { Texts } from '../texts/en'

/** Links, the newest first: one's own, and for administrators everybody's. */
export function useLinks() {
  const query = useInfiniteQuery({
    queryKey: ['links'],
    queryFn: ({ pageParam }) =>
      answered(
        http.GET('/api/links', {
          params: { query: { limit: 100, ...(pageParam && { before: pageParam }) } },
        }),
      ),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => page.next,
  })
  return { ...query, links: query.data?.pages.flatMap((page) => page.links) ?? [] }
}

export function useMakeLink() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (asked: LinkAsk) =>
      // What is left out has its usual value, which the description calls required.
      answered(http.POST('/api/links', { body: asked as Required<Pick<LinkAsk, 'only' | 'net'>> & LinkAsk })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['links'] }),
  })
}

export function useRevokeLink() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (link: string) => answered(http.DELETE('/api/links/{link}', { params: { path: { link } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['links'] }),
  })
}

export function useExplainLink() {
  return useMutation({
    mutationFn: (link: string) => answered(http.POST('/api/links/explanation', { body: { link } })),
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
export function meaning(
  form: LinkForm,
  now: Date,
  said: Texts['links']['meaning'],
  tongue: Language = language(),
): string | null {
  const name = form.address.trim().split('/').at(-1)
  if (!name) return null
  const whom = form.to.trim() ? said.madeFor(form.to.trim()) : said.anyone
  const count = form.uses ? ` ${times(Number(form.uses), said)}` : ''
  const parts = [said.save(whom, name, count)]
  if (form.net.trim()) parts.push(said.network(form.net.trim()))
  parts.push(form.days ? said.until(endOf(form, now, tongue)) : said.forGood)
  return `${parts.join(', ')}.`
}

function times(count: number, said: Texts['links']['meaning']): string {
  return count === 1 ? said.once : count === 2 ? said.twice : said.times(count)
}

function endOf(form: LinkForm, now: Date, tongue: Language): string {
  const end = new Date(now.getTime() + Number(form.days) * 86_400_000)
  return end.toLocaleString(tongue, { dateStyle: 'full', timeStyle: 'short' })
}

const SOON = 86_400_000 // milliseconds

export type Standing = 'good' | 'ends soon' | 'expired' | 'used up' | 'revoked'

/** How a link stands, in words; one that holds and ends within a day ends soon. */
export function standing(link: LinkFacts, now: Date): Standing {
  if (link.state === 'used-up') return 'used up'
  if (link.state !== 'holds') return link.state
  return link.until && new Date(link.until).getTime() - now.getTime() < SOON ? 'ends soon' : 'good'
}

/** Whether a link has a text in what is known of it. */
export function mentions(link: LinkFacts, text: string): boolean {
  const wanted = text.trim().toLowerCase()
  return [link.id, link.address, link.scope, link.maker, link.recipient].some((one) =>
    one?.toLowerCase().includes(wanted),
  )
}
