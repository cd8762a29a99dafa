// Recipients: who there is, their groups, tokens, passwords and sessions.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { answered, http } from '../api/client'

export function useRecipients() {
  return useQuery({ queryKey: ['recipients'], queryFn: () => answered(http.GET('/api/recipients')) })
}

export function useRecipient(recipient: string) {
  return useQuery({
    queryKey: ['recipients', recipient],
    queryFn: () => answered(http.GET('/api/recipients/{recipient}', { params: { path: { recipient } } })),
  })
}

export function useSessions(recipient: string) {
  return useQuery({
    queryKey: ['sessions', recipient],
    queryFn: () =>
      answered(http.GET('/api/recipients/{recipient}/sessions', { params: { path: { recipient } } })),
  })
}

/** A change of somebody, after which everything that is known of them is looked at again. */
function useChange<Given, Told>(change: (given: Given) => Promise<Told>) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: () =>
      Promise.all(
        ['recipients', 'sessions', 'links'].map((key) => queries.invalidateQueries({ queryKey: [key] })),
      ),
  })
}

export function useSaveRecipient() {
  return useChange(({ id, name, groups }: { id: string; name: string; groups: string[] }) =>
    answered(
      http.PUT('/api/recipients/{recipient}', {
        params: { path: { recipient: id } },
        body: { groups, ...(name.trim() && { name: name.trim() }) },
      }),
    ),
  )
}

export function useDisable(recipient: string) {
  return useChange((disable: boolean) => {
    const params = { path: { recipient } }
    return answered(
      disable
        ? http.POST('/api/recipients/{recipient}/disable', { params })
        : http.POST('/api/recipients/{recipient}/enable', { params }),
    )
  })
}

export function useRemoveRecipient(recipient: string) {
  return useChange(() =>
    answered(http.DELETE('/api/recipients/{recipient}', { params: { path: { recipient } } })),
  )
}

export function useMakeToken(recipient: string) {
  return useChange((label: string) =>
    answered(
      http.POST('/api/recipients/{recipient}/tokens', { params: { path: { recipient } }, body: { label } }),
    ),
  )
}

export function useEndToken(recipient: string) {
  return useChange((token: string) =>
    answered(
      http.DELETE('/api/recipients/{recipient}/tokens/{token}', { params: { path: { recipient, token } } }),
    ),
  )
}

export function useSetPassword(recipient: string) {
  return useChange((body: { password: string | null; current?: string }) =>
    answered(http.PUT('/api/recipients/{recipient}/password', { params: { path: { recipient } }, body })),
  )
}

export function useEndSessions(recipient: string) {
  return useChange(() =>
    answered(http.DELETE('/api/recipients/{recipient}/sessions', { params: { path: { recipient } } })),
  )
}

export function useRevokeLinks(maker: string) {
  return useChange(() => answered(http.DELETE('/api/links', { params: { query: { maker } } })))
}

/** Groups as they were typed: parted by commas or spaces. */
export function readGroups(text: string): string[] {
  return text.split(/[\s,]+/).filter(Boolean)
}
