// Has an address be told of events.
import { useState, type SubmitEvent } from 'react'
import styled from 'styled-components'
import { useMakeWebhook } from '../data/webhooks'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Button } from './Button'
import { Notice } from './Notice'
import { TextField } from './TextField'

const Fields = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(16rem, 100%), 1fr));
  gap: 0.6rem 1rem;
  margin-top: 1.4rem;
`

const Events = styled.fieldset`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(15rem, 1fr));
  gap: 0.2rem 1rem;
  margin: 0.8rem 0;
  padding: 0;
  border: 0;
  legend {
    padding: 0;
    color: ${token.quiet};
    font-size: ${token.type.small};
  }
`

/** `events`: those that there are, each with what it means. */
export function MakeWebhook({ events }: { events: Record<string, string> }) {
  const said = useTexts().webhooks
  const make = useMakeWebhook()
  const [url, setUrl] = useState('')
  const [label, setLabel] = useState('')
  const [wanted, setWanted] = useState<readonly string[]>([])

  function submit(event: SubmitEvent) {
    event.preventDefault()
    make.mutate(
      { url, label, events: [...wanted] },
      {
        onSuccess: () => {
          setUrl('')
          setLabel('')
          setWanted([])
        },
      },
    )
  }

  return (
    <form onSubmit={submit}>
      <Fields>
        <TextField label={said.url} value={url} onChange={setUrl} type="url" isRequired maxLength={2000} />
        <TextField label={said.label} value={label} onChange={setLabel} maxLength={200} />
      </Fields>
      <Events>
        <legend>{said.events}</legend>
        {Object.entries(events).map(([event, meaning]) => (
          <label key={event} title={meaning}>
            <input
              type="checkbox"
              checked={wanted.includes(event)}
              onChange={() =>
                setWanted(wanted.includes(event) ? wanted.filter((one) => one !== event) : [...wanted, event])
              }
            />{' '}
            {event}
          </label>
        ))}
      </Events>
      <Button type="submit" isDisabled={make.isPending || !url || !wanted.length}>
        {said.make}
      </Button>
      {make.error && <Notice error={make.error} />}
    </form>
  )
}
