// What a webhook was told of, what came back, and telling it once more.
import { useDeliveries, useRepeatDelivery, type Delivery, type Webhook } from '../data/webhooks'
import { useTexts } from '../texts'
import { Button } from './Button'
import { Title } from './Card'
import { Notice } from './Notice'
import { Rows } from './Rows'
import { Time } from './Time'

export function Deliveries({ webhook, close }: { webhook: Webhook; close: () => void }) {
  const { webhooks: said, common } = useTexts()
  const { data, error } = useDeliveries(webhook.id)
  const again = useRepeatDelivery(webhook.id)
  const failed = error ?? again.error
  return (
    <section>
      <Title>
        <h3>{said.deliveriesOf(webhook.url)}</h3>
        <Button onPress={close}>{said.close}</Button>
      </Title>
      {failed && <Notice error={failed} />}
      <Rows
        label={said.deliveriesOf(webhook.url)}
        rows={data?.deliveries ?? []}
        idOf={(one) => String(one.id)}
        textOf={(one) => `${one.id} ${one.event}`}
        empty={data ? said.noDeliveries : common.looking}
        columns={[
          { id: 'event', name: said.event, width: '1.5fr', cell: (one) => one.event },
          { id: 'made', name: said.when, width: 170, quiet: true, cell: (one) => <Time at={one.made} /> },
          { id: 'state', name: said.state, width: '1.5fr', cell: (one) => <State delivery={one} /> },
          { id: 'said', name: said.said, width: '2fr', quiet: true, cell: (one) => one.said },
          {
            id: 'again',
            name: said.again,
            width: 160,
            hidesName: true,
            cell: (one) => (
              <Button aria-label={said.againOf(one.id)} onPress={() => again.mutate(one.id)}>
                {said.again}
              </Button>
            ),
          },
        ]}
      />
    </section>
  )
}

function State({ delivery }: { delivery: Delivery }) {
  const said = useTexts().webhooks
  const words = said.states[delivery.state]
  return (
    <>
      {words}
      {delivery.attempts > 1 && `, ${said.attempts(delivery.attempts)}`}
      {delivery.next && (
        <>
          {', '}
          {said.next} <Time at={delivery.next} />
        </>
      )}
    </>
  )
}
