import { useNavigate } from '@tanstack/react-router'
import { useMemo, useState, type SubmitEvent } from 'react'
import type { Recipient } from '../api/client'
import { MainButton } from '../components/Button'
import { Aside, Card, Row } from '../components/Card'
import { timeText } from '../components/format'
import { Fields } from '../components/LinkForm'
import { Notice } from '../components/Notice'
import { Rows } from '../components/Rows'
import type { ColumnOf } from '../components/rowsOf'
import { TextField } from '../components/TextField'
import { readGroups, useRecipients, useSaveRecipient } from '../data/people'
import { usePage } from '../data/page'
import { useTexts } from '../texts'
import type { Texts } from '../texts/en'

export function People() {
  const texts = useTexts()
  const said = texts.people
  const { data, error, isPending } = useRecipients()
  const navigate = useNavigate()
  const heading = usePage(said.title)
  const columns = useMemo(() => columnsOf(texts), [texts])
  return (
    <>
      <h1 {...heading}>{said.title}</h1>
      <Add />
      {error && <Notice error={error} />}
      <Rows
        label={said.recipients}
        columns={columns}
        rows={data?.recipients ?? []}
        idOf={(one) => one.id}
        textOf={(one) => one.id}
        onOpen={(id) => void navigate({ to: '/people/$id', params: { id } })}
        empty={isPending ? texts.common.looking : said.none}
      />
    </>
  )
}

function Add() {
  const said = useTexts().people
  const [id, setId] = useState('')
  const [name, setName] = useState('')
  const [groups, setGroups] = useState('')
  const save = useSaveRecipient()
  const navigate = useNavigate()
  function submit(event: SubmitEvent) {
    event.preventDefault()
    save.mutate(
      { id: id.trim(), name, groups: readGroups(groups) },
      { onSuccess: () => void navigate({ to: '/people/$id', params: { id: id.trim() } }) },
    )
  }
  return (
    <Card as="form" onSubmit={submit} aria-label={said.add}>
      <h2>{said.add}</h2>
      <Fields>
        <TextField label={said.id} value={id} onChange={setId} isRequired maxLength={64} />
        <TextField label={said.name} value={name} onChange={setName} maxLength={200} />
        <TextField
          label={said.groupsField}
          placeholder={said.groupsPlace}
          value={groups}
          onChange={setGroups}
        />
      </Fields>
      <Row>
        <MainButton type="submit" isDisabled={save.isPending}>
          {said.add}
        </MainButton>
      </Row>
      {save.error && <Notice error={save.error} />}
    </Card>
  )
}

function columnsOf({ people }: Texts): ColumnOf<Recipient>[] {
  return [
    {
      id: 'id',
      name: people.id,
      width: '1.5fr',
      cell: (one) => (
        <>
          {one.id}
          {one.name !== one.id && <Aside>{one.name}</Aside>}
        </>
      ),
    },
    { id: 'groups', name: people.groups, width: '2fr', cell: (one) => one.groups.join(', ') },
    { id: 'tokens', name: people.tokens, width: 100, right: true, cell: (one) => one.tokens.length },
    {
      id: 'state',
      name: people.state,
      width: '1.4fr',
      quiet: true,
      cell: (one) => (one.disabled ? people.disabled(timeText(one.disabled)) : people.enabled),
    },
  ]
}
