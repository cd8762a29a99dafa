// Addresses that are told of events: which there are, what became of it, trying one, and removing it.
import { useState } from 'react'
import styled from 'styled-components'
import { useRemoveWebhook, useTryWebhook, useWebhooks, type Webhook } from '../data/webhooks'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Button } from './Button'
import { Quiet } from './Card'
import { Deliveries } from './Deliveries'
import { MakeWebhook } from './MakeWebhook'
import { Notice } from './Notice'
import { Rows } from './Rows'
import { SureButton } from './SureButton'
import { SafeText } from './SafeText'

const Events = styled.span`
  display: block;
  color: ${token.quiet};
  font-size: ${token.type.small};
`

const Actions = styled.span`
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
`

export function Webhooks() {
  const said = useTexts().webhooks
  const { data, error } = useWebhooks()
  const [shown, setShown] = useState<string | null>(null)
  const remove = useRemoveWebhook()
  const trial = useTryWebhook()
  const failed = error ?? remove.error ?? trial.error
  const open = data?.webhooks.find((one) => one.id === shown)
  return (
    <>
      <Quiet>{said.hint}</Quiet>
      {failed && <Notice error={failed} />}
      <Rows
        label={said.title}
        rows={data?.webhooks ?? []}
        idOf={(one) => one.id}
        textOf={(one) => one.url}
        empty={said.none}
        columns={[
          { id: 'url', name: said.url, width: '3fr', cell: (one) => <Told webhook={one} /> },
          {
            id: 'waiting',
            name: said.waiting,
            width: 110,
            right: true,
            cell: (one) => one.waiting.toLocaleString(),
          },
          {
            id: 'do',
            name: said.deliveries,
            width: 380,
            hidesName: true,
            cell: (one) => (
              <Actions>
                <Button aria-label={said.deliveriesOf(one.url)} onPress={() => setShown(one.id)}>
                  {said.deliveries}
                </Button>
                <Button
                  aria-label={said.tryOf(one.url)}
                  onPress={() => {
                    setShown(one.id)
                    trial.mutate(one.id)
                  }}
                >
                  {said.try}
                </Button>
                <SureButton
                  words={said.remove}
                  sure={said.removeSure}
                  label={said.removeOf(one.url)}
                  onPress={() => remove.mutate(one.id)}
                />
              </Actions>
            ),
          },
        ]}
      />
      {open && <Deliveries webhook={open} close={() => setShown(null)} />}
      {data && <MakeWebhook events={data.events} />}
    </>
  )
}

function Told({ webhook }: { webhook: Webhook }) {
  return (
    <span>
      <SafeText>{webhook.url}</SafeText>
      <Events>
        {webhook.label && `${webhook.label}: `}
        {webhook.events.join(', ')}
      </Events>
    </span>
  )
}
