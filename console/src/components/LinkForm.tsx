// Making a link: a few fields, the sentence that they mean, and then the link itself.
import { useState, type SubmitEvent } from 'react'
import styled from 'styled-components'
import { asked, EMPTY, meaning, useMakeLink, type LinkForm as Form } from '../data/links'
import { useLanguage, useTexts } from '../texts'
import { MainButton } from './Button'
import { Card } from './Card'
import { MadeLink } from './MadeLink'
import { Notice } from './Notice'
import { Select } from './Select'
import { TextField } from './TextField'

export const Fields = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(11rem, 1fr));
  gap: 0.9rem 1.1rem;
`

const Meaning = styled.p`
  min-height: 1.5em;
  margin: 1rem 0;
  overflow-wrap: anywhere;
`

const DAYS = { hour: '0.041666667', day: '1', week: '7', month: '30', never: '' } as const

export function LinkForm({ file = '' }: { file?: string }) {
  const texts = useTexts().links
  const tongue = useLanguage()
  const [form, setForm] = useState<Form>({ ...EMPTY, address: file })
  const make = useMakeLink()
  const set = (name: keyof Form) => (value: string) => {
    setForm({ ...form, [name]: value })
    make.reset()
  }
  const ends = (Object.keys(DAYS) as (keyof typeof DAYS)[]).map(
    (name) => [DAYS[name], texts.form.choices[name]] as const,
  )

  function submit(event: SubmitEvent) {
    event.preventDefault()
    make.mutate(asked(form))
  }

  return (
    <Card as="form" onSubmit={submit} aria-label={texts.form.label}>
      <Fields>
        <TextField
          label={texts.form.file}
          placeholder={texts.form.filePlace}
          value={form.address}
          onChange={set('address')}
          isRequired
        />
        <Select label={texts.form.ends} value={form.days} choices={ends} onChange={set('days')} />
        <TextField
          label={texts.form.downloads}
          placeholder={texts.form.anyNumber}
          inputMode="numeric"
          pattern="[1-9][0-9]{0,8}"
          value={form.uses}
          onChange={set('uses')}
        />
        <TextField
          label={texts.form.madeFor}
          placeholder={texts.form.aRecipient}
          value={form.to}
          onChange={set('to')}
        />
        <TextField
          label={texts.form.network}
          placeholder={texts.form.anyNetwork}
          value={form.net}
          onChange={set('net')}
        />
      </Fields>
      <Meaning aria-live="polite">
        {meaning(form, new Date(), texts.meaning, tongue) ?? texts.form.nameAFile}
      </Meaning>
      <MainButton type="submit" isDisabled={make.isPending}>
        {make.isPending ? texts.form.making : texts.form.make}
      </MainButton>
      {make.error && <Notice error={make.error} />}
      {make.data && <MadeLink url={make.data.url} />}
    </Card>
  )
}
