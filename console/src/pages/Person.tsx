import { Link, useNavigate, useParams } from '@tanstack/react-router'
import { useState, type SubmitEvent } from 'react'
import type { Recipient } from '../api/client'
import { Button } from '../components/Button'
import { Card, Columns, Quiet, Row } from '../components/Card'
import { Notice } from '../components/Notice'
import { Password } from '../components/Password'
import { Sessions } from '../components/Sessions'
import { SureButton } from '../components/SureButton'
import { TextField } from '../components/TextField'
import { Tokens } from '../components/Tokens'
import {
  readGroups,
  useDisable,
  useRecipient,
  useRemoveRecipient,
  useRevokeLinks,
  useSaveRecipient,
} from '../data/people'
import { usePage } from '../data/page'
import { useTexts } from '../texts'

export function Person() {
  const { id } = useParams({ from: '/people/$id' })
  const said = useTexts().people
  const { data, error } = useRecipient(id)
  const heading = usePage(said.of(id))
  return (
    <>
      <Link to="/people">← {said.title}</Link>
      <h1 {...heading}>{said.of(id)}</h1>
      {error && <Notice error={error} />}
      {data && (
        <>
          <Columns>
            <Card>
              <NameAndGroups key={JSON.stringify(data.groups) + data.name} recipient={data} />
              <Ending recipient={data} />
            </Card>
            <Card>
              <h2>{said.password}</h2>
              <Password recipient={id} own={false} />
              <h2>{said.sessions}</h2>
              <Sessions recipient={id} />
            </Card>
          </Columns>
          <h2>{said.tokens}</h2>
          <Tokens recipient={data} makes />
        </>
      )}
    </>
  )
}

function NameAndGroups({ recipient }: { recipient: Recipient }) {
  const said = useTexts().people
  const [name, setName] = useState(recipient.name)
  const [groups, setGroups] = useState(recipient.groups.join(', '))
  const save = useSaveRecipient()
  function submit(event: SubmitEvent) {
    event.preventDefault()
    save.mutate({ id: recipient.id, name, groups: readGroups(groups) })
  }
  return (
    <form onSubmit={submit}>
      <TextField label={said.name} value={name} onChange={setName} maxLength={200} />
      <TextField label={said.groupsField} value={groups} onChange={setGroups} />
      <Row>
        <Button type="submit" isDisabled={save.isPending}>
          {said.save}
        </Button>
        <Link to="/history" search={{ recipient: recipient.id }}>
          {said.history}
        </Link>
      </Row>
      {save.error && <Notice error={save.error} />}
    </form>
  )
}

function Ending({ recipient }: { recipient: Recipient }) {
  const texts = useTexts()
  const said = texts.people
  const disable = useDisable(recipient.id)
  const revoke = useRevokeLinks(recipient.id)
  const remove = useRemoveRecipient(recipient.id)
  const navigate = useNavigate()
  const error = disable.error ?? revoke.error ?? remove.error
  return (
    <>
      <Row>
        <SureButton
          words={recipient.disabled ? said.enable : said.disable}
          sure={texts.common.really}
          onPress={() => disable.mutate(!recipient.disabled)}
        />
        <SureButton
          words={said.revokeLinks}
          sure={texts.common.really}
          onPress={() => revoke.mutate(undefined)}
        />
        <SureButton
          words={said.remove}
          sure={said.removeSure}
          onPress={() => remove.mutate(undefined, { onSuccess: () => void navigate({ to: '/people' }) })}
        />
      </Row>
      {revoke.data && <Quiet role="status">{said.revoked(revoke.data.revoked)}</Quiet>}
      {error && <Notice error={error} />}
    </>
  )
}
