// Who may do what, and why: decisions, the matrix, rules and what others would change, quotas.
import { useMutation, useQueries, useQuery, useQueryClient } from '@tanstack/react-query'
import { answered, http, type Action, type Rule } from '../api/client'
import type { components } from '../api/schema.gen'
import type { Texts } from '../texts/en'
import { useRecipients } from './people'

export const ACTIONS: readonly Action[] = ['list', 'read', 'bundle', 'link', 'put', 'manage']

export interface Question {
  who: string
  address: string
  action: Action
  at: string // as a browser's field for it has it, or empty
  network: string
}

export function useDecision() {
  return useMutation({
    mutationFn: ({ who, address, action, at, network }: Question) =>
      answered(
        http.GET('/api/decisions', {
          params: {
            query: {
              address: address.trim(),
              action,
              ...(who.trim() && { as: who.trim() }),
              ...(at && { at: new Date(at).getTime() / 1000 }),
              ...(network.trim() && { network: network.trim() }),
            },
          },
        }),
      ),
  })
}

export function useMatrix(folder: string) {
  return useQuery({
    queryKey: ['access', folder],
    queryFn: () => answered(http.GET('/api/access', { params: { query: folder ? { in: folder } : {} } })),
  })
}

export function useRules() {
  return useQuery({ queryKey: ['rules'], queryFn: () => answered(http.GET('/api/rules')) })
}

export function useRulesFile() {
  return useQuery({ queryKey: ['rules-file'], queryFn: () => answered(http.GET('/api/rules/file')) })
}

export function useExpectations() {
  return useQuery({
    queryKey: ['expectations'],
    queryFn: () => answered(http.GET('/api/rules/expectations')),
  })
}

export function useTryRules() {
  return useMutation({
    mutationFn: (text: string) => answered(http.POST('/api/rules/trial', { body: { text } })),
  })
}

export function usePutRules() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (body: components['schemas']['RulesPut']) => answered(http.PUT('/api/rules/file', { body })),
    onSuccess: () => queries.invalidateQueries(),
  })
}

/** The quotas of everybody in the records. */
export function useAllQuotas() {
  const recipients = useRecipients().data?.recipients ?? []
  const found = useQueries({
    queries: recipients.map(({ id }) => ({
      queryKey: ['quotas', id],
      queryFn: () => answered(http.GET('/api/quotas', { params: { query: { recipient: id } } })),
    })),
  })
  return recipients.flatMap(({ id }, place) =>
    (found[place]?.data?.quotas ?? []).map((quota) => ({ ...quota, who: id })),
  )
}

export function useResetQuota() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: ({ who, rule }: { who: string; rule: string }) =>
      answered(
        http.DELETE('/api/quotas/{recipient}', { params: { path: { recipient: who }, query: { rule } } }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['quotas'] }),
  })
}

/** A rule as a sentence: who may, or may not, do what with what. */
export function sentenceOf(rule: Pick<Rule, 'effect' | 'who' | 'actions' | 'what'>, texts: Texts): string {
  const { access, facts } = texts
  const of = (excepted: boolean) =>
    rule.who
      .filter((one) => one.startsWith('not ') === excepted)
      .map((one) => whoText(one.replace(/^not /, ''), texts))
      .join(access.or)
  const excepted = of(true)
  const who = of(false) + (excepted && `, ${access.except} ${excepted},`)
  const known: Partial<Record<string, string>> = facts.actions
  const order: readonly string[] = ACTIONS
  const actions = [...rule.actions]
    .sort((a, b) => place(order, a) - place(order, b))
    .map((action) => known[action] ?? action)
    .join(', ')
  const what = rule.what.map((one) => (one === '**' ? access.everything : one)).join(access.or)
  return access.ruleText(rule.effect, who, actions, what)
}

/** Where something stands in an order; what is not in it comes last. */
function place(order: readonly string[], what: string): number {
  const at = order.indexOf(what)
  return at < 0 ? order.length : at
}

/** The lines of a rules file that are a rule's own: from where it begins up to the next entry. */
export function linesOf(text: string, line: number): string {
  const lines = text.split('\n').slice(line - 1)
  const next = lines.findIndex((one, at) => at > 0 && /^\s*\[\[/.test(one))
  return lines
    .slice(0, next < 0 ? undefined : next)
    .join('\n')
    .trimEnd()
}

/** Whom a rule names, or whoever a line of the matrix is of, in words. */
export function whoText(who: string, { access }: Texts): string {
  if (who === 'anyone') return access.everyone
  if (who === 'signed-in') return access.signedIn
  if (who.startsWith('group:')) return access.group(who.slice(6))
  return who.replace(/^recipient:/, '')
}
