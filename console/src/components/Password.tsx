import { useState, type SubmitEvent } from 'react'
import { useSetPassword } from '../data/people'
import { useTexts } from '../texts'
import { Button } from './Button'
import { Quiet, Row } from './Card'
import { Notice } from './Notice'
import { SureButton } from './SureButton'
import { TextField } from './TextField'

/** Somebody's password: set, or taken away; `own` asks for the one before. */
export function Password({ recipient, own }: { recipient: string; own: boolean }) {
  const said = useTexts().people
  const [current, setCurrent] = useState('')
  const [password, setPassword] = useState('')
  const change = useSetPassword(recipient)
  function submit(event: SubmitEvent) {
    event.preventDefault()
    change.mutate({ password, ...(own && current && { current }) }, { onSuccess: () => setPassword('') })
  }
  return (
    <form onSubmit={submit}>
      <Row>
        {own && (
          <TextField
            label={said.currentPassword}
            type="password"
            autoComplete="current-password"
            value={current}
            onChange={setCurrent}
          />
        )}
        <TextField
          label={said.newPassword}
          type="password"
          autoComplete="new-password"
          value={password}
          onChange={setPassword}
          isRequired
        />
        <Button type="submit" isDisabled={change.isPending}>
          {said.setPassword}
        </Button>
        {!own && (
          <SureButton
            words={said.removePassword}
            sure={said.removePassword}
            onPress={() => change.mutate({ password: null })}
          />
        )}
      </Row>
      {change.error && <Notice error={change.error} />}
      {change.isSuccess && <Quiet role="status">{said.passwordSet}</Quiet>}
    </form>
  )
}
