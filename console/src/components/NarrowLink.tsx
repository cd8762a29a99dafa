// A link that opens less, made of another one by the browser itself.
import { useState } from 'react'
import { narrowed } from '../../../browser/src/links'
import { useTexts } from '../texts'
import { Button } from './Button'
import { Quiet, Row } from './Card'
import { MadeLink } from './MadeLink'
import { Select } from './Select'
import { TextField } from './TextField'

const DAYS = { hour: 1 / 24, day: 1, week: 7, month: 30 } as const

export function NarrowLink({ link }: { link: string }) {
  const texts = useTexts().links
  const [days, setDays] = useState('')
  const [uses, setUses] = useState('')
  const [net, setNet] = useState('')
  const [made, setMade] = useState('')
  const names = Object.keys(DAYS) as (keyof typeof DAYS)[]
  const ends = [
    ['', '–'],
    ...names.map((name) => [String(DAYS[name]), texts.form.choices[name]] as const),
  ] as const

  async function narrow() {
    const url = new URL(link, window.location.origin)
    url.pathname = url.pathname.replace('/pickup/', '/get/')
    const more: [string, string][] = []
    if (days) more.push(['until', String(Math.floor(Date.now() / 1000 + Number(days) * 86_400))])
    if (net.trim()) more.push(['net', net.trim()])
    if (uses.trim()) more.push(['uses', uses.trim()])
    let narrower = url.href
    for (const [name, value] of more) narrower = await narrowed(narrower, name, value, crypto)
    setMade(narrower)
  }

  return (
    <>
      <h3>{texts.narrow.title}</h3>
      <Quiet>{texts.narrow.hint}</Quiet>
      <Row>
        <Select label={texts.form.ends} value={days} choices={ends} onChange={setDays} />
        <TextField
          label={texts.form.downloads}
          placeholder={texts.form.anyNumber}
          inputMode="numeric"
          pattern="[1-9][0-9]{0,8}"
          value={uses}
          onChange={setUses}
        />
        <TextField
          label={texts.form.network}
          placeholder={texts.form.anyNetwork}
          value={net}
          onChange={setNet}
        />
        <Button isDisabled={!days && !uses && !net} onPress={() => void narrow()}>
          {texts.narrow.ask}
        </Button>
      </Row>
      {made && <MadeLink url={made} />}
    </>
  )
}
