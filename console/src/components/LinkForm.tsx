// Making a link: a few fields, the sentence that they mean, and then the link itself.
import { useState, type SubmitEvent } from 'react'
import styled from 'styled-components'
import { pickupPath } from '../api/client'
import { asked, EMPTY, meaning, useMakeLink, type LinkForm as Form } from '../data/links'
import { Button, MainButton } from './Button'
import { Notice } from './Notice'
import { Select } from './Select'
import { TextField } from './TextField'
import { token } from '../theme'

const Card = styled.form`
  margin: 1rem 0 1.5rem;
  padding: 1.1rem 1.3rem 1.3rem;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.surface};
`

const Fields = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(13rem, 1fr));
  gap: 0.9rem 1.1rem;
`

const Meaning = styled.p`
  min-height: 1.5em;
  margin: 1rem 0;
  overflow-wrap: anywhere;
`

const Made = styled.div`
  margin-top: 1rem;
  padding: 0.8rem 1rem;
  border-left: 4px solid ${token.good};
  background: ${token.wash};
  code {
    display: block;
    margin: 0.2rem 0 0.6rem;
    overflow-wrap: anywhere;
  }
`

const ENDS = [
  ['0.041666667', 'in an hour'],
  ['1', 'in a day'],
  ['7', 'in a week'],
  ['30', 'in 30 days'],
  ['', 'never'],
] as const

export function LinkForm() {
  const [form, setForm] = useState<Form>(EMPTY)
  const make = useMakeLink()
  const set = (name: keyof Form) => (value: string) => {
    setForm({ ...form, [name]: value })
    make.reset()
  }

  function submit(event: SubmitEvent) {
    event.preventDefault()
    make.mutate(asked(form))
  }

  return (
    <Card onSubmit={submit} aria-label="Make a link">
      <Fields>
        <TextField
          label="File"
          placeholder="store/folder/name"
          value={form.address}
          onChange={set('address')}
          isRequired
        />
        <Select label="It ends" value={form.days} choices={ENDS} onChange={set('days')} />
        <TextField
          label="Downloads"
          placeholder="any number"
          inputMode="numeric"
          pattern="[1-9][0-9]{0,8}"
          value={form.uses}
          onChange={set('uses')}
        />
        <TextField label="Made for" placeholder="a recipient" value={form.to} onChange={set('to')} />
        <TextField
          label="Network"
          placeholder="any, or as 192.0.2.0/24"
          value={form.net}
          onChange={set('net')}
        />
      </Fields>
      <Meaning aria-live="polite">
        {meaning(form, new Date()) ?? 'Name a file to see what the link will mean.'}
      </Meaning>
      <MainButton type="submit" isDisabled={make.isPending}>
        {make.isPending ? 'Making …' : 'Make the link'}
      </MainButton>
      {make.error && <Notice error={make.error} />}
      {make.data && (
        <Made role="status">
          The link <CopyButton text={make.data.url} words="Copy the link" />
          <code>{make.data.url}</code>
          As a page for a person{' '}
          <CopyButton text={pickupPath(make.data.url)} words="Copy the page’s address" />
          <code>{pickupPath(make.data.url)}</code>
        </Made>
      )}
    </Card>
  )
}

function CopyButton({ text, words }: { text: string; words: string }) {
  const [copied, setCopied] = useState(false)
  return (
    <Button onPress={() => void navigator.clipboard.writeText(text).then(() => setCopied(true))}>
      {copied ? 'Copied' : words}
    </Button>
  )
}
