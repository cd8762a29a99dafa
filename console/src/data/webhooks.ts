// Webhooks, and what became of their deliveries.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { answered, http } from '../api/client'
import type { components } from '../api/schema.gen'

export type Webhook = components['schemas']['WebhookShape']
export type Delivery = components['schemas']['DeliveryShape']

const WHILE_OPEN = 2000 // milliseconds between two looks at deliveries

export function useWebhooks() {
  return useQuery({
    queryKey: ['webhooks'],
    queryFn: () => answered(http.GET('/api/webhooks')),
    refetchInterval: 5000,
  })
}

/** What a webhook was told of, the newest hundred; it is looked at again while it is shown. */
export function useDeliveries(webhook: string) {
  return useQuery({
    queryKey: ['deliveries', webhook],
    queryFn: () =>
      answered(http.GET('/api/webhooks/{webhook}/deliveries', { params: { path: { webhook } } })),
    refetchInterval: WHILE_OPEN,
  })
}

function useChange<Given>(change: (given: Given) => Promise<unknown>) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: () =>
      Promise.all(['webhooks', 'deliveries'].map((key) => queries.invalidateQueries({ queryKey: [key] }))),
  })
}

export function useMakeWebhook() {
  return useChange((body: components['schemas']['WebhookAsk']) =>
    answered(http.POST('/api/webhooks', { body })),
  )
}

export function useRemoveWebhook() {
  return useChange((webhook: string) =>
    answered(http.DELETE('/api/webhooks/{webhook}', { params: { path: { webhook } } })),
  )
}

export function useTryWebhook() {
  return useChange((webhook: string) =>
    answered(http.POST('/api/webhooks/{webhook}/trial', { params: { path: { webhook } } })),
  )
}

export function useRepeatDelivery(webhook: string) {
  return useChange((delivery: number) =>
    answered(
      http.POST('/api/webhooks/{webhook}/deliveries/{delivery}', {
        params: { path: { webhook, delivery } },
      }),
    ),
  )
}
