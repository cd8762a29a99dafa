// Whether the rules file can be used, for administrators.
import { useQuery } from '@tanstack/react-query'
import { answered, http } from '../api/client'
import { useMe } from './session'

/** What is wrong with a rules file that came after the rules in force; null when nothing is. */
export function useRulesFault(): { fault: string; since: string } | null {
  const me = useMe()
  const rules = useQuery({
    queryKey: ['rules'],
    queryFn: () => answered(http.GET('/api/rules')),
    enabled: me.data?.administers === true,
    refetchInterval: 15_000,
  })
  const told = rules.data
  return told?.fault ? { fault: told.fault, since: told.since } : null
}
