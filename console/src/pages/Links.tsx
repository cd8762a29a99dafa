import { useSearch } from '@tanstack/react-router'
import { useMemo, useState } from 'react'
import styled from 'styled-components'
import type { LinkFacts } from '../api/client'
import { Aside, Title } from '../components/Card'
import { ExplainLink } from '../components/ExplainLink'
import { LinkForm } from '../components/LinkForm'
import { Notice } from '../components/Notice'
import { Rows } from '../components/Rows'
import type { ColumnOf } from '../components/rowsOf'
import { Select } from '../components/Select'
import { SureButton } from '../components/SureButton'
import { TextField } from '../components/TextField'
import { Time } from '../components/Time'
import { mentions, standing, useLinks, useRevokeLink, type Standing } from '../data/links'
import { usePage } from '../data/page'
import { useTexts } from '../texts'
import type { Texts } from '../texts/en'
import { token } from '../theme'
import { SafeText } from '../components/SafeText'

const Filters = styled(Title)`
  align-items: end;
  h2 {
    flex: 1 1 20rem;
    margin: 0;
  }
`

const Word = styled.span<{ $colour: string }>`
  color: ${(props) => props.$colour};
  font-weight: 600;
  white-space: nowrap;
`

const LOOKS: Record<Standing, readonly [string, string]> = {
  good: [token.good, '✓'],
  'ends soon': [token.warn, '◔'],
  expired: [token.quiet, '–'],
  'used up': [token.quiet, '∅'],
  revoked: [token.bad, '✗'],
}
const STATES = Object.keys(LOOKS) as Standing[]

export function Links() {
  const texts = useTexts()
  const said = texts.links
  const { file } = useSearch({ from: '/links' })
  const { links, error, isPending, isFetchingNextPage, hasNextPage, fetchNextPage } = useLinks()
  const [state, setState] = useState('')
  const [text, setText] = useState('')
  const heading = usePage(said.title)
  const columns = useMemo(() => columnsOf(texts), [texts])
  const now = new Date()
  const shown = links.filter((link) => (!state || standing(link, now) === state) && mentions(link, text))
  const states = [['', texts.common.all], ...STATES.map((one) => [one, said.states[one]] as const)] as const
  return (
    <>
      <h1 {...heading}>{said.title}</h1>
      <LinkForm key={file} file={file ?? ''} />
      <Filters>
        <h2>{said.list}</h2>
        <TextField label={said.search} value={text} onChange={setText} />
        <Select label={said.show} value={state} choices={states} onChange={setState} />
      </Filters>
      {error && <Notice error={error} />}
      <Rows
        label={said.title}
        columns={columns}
        rows={shown}
        idOf={(link) => link.id}
        textOf={(link) => link.address ?? link.id}
        empty={isPending ? texts.common.looking : said.none}
        more={{ has: hasNextPage, loads: isFetchingNextPage, load: () => void fetchNextPage() }}
      />
      <ExplainLink />
    </>
  )
}

function columnsOf({ links, common }: Texts): ColumnOf<LinkFacts>[] {
  return [
    { id: 'file', name: links.file, width: '3fr', minWidth: 140, cell: (link) => <Named link={link} /> },
    { id: 'state', name: links.state, width: 120, cell: (link) => <Stands link={link} /> },
    {
      id: 'for',
      name: links.for,
      width: '1fr',
      quiet: true,
      cell: (link) => link.recipient ?? common.anyone,
    },
    {
      id: 'until',
      name: links.until,
      width: 165,
      quiet: true,
      cell: (link) => (link.until ? <Time at={link.until} /> : links.forGood),
    },
    {
      id: 'uses',
      name: links.uses,
      width: 90,
      right: true,
      cell: (link) => (link.uses === null ? link.used : common.of(link.used, link.uses)),
    },
    { id: 'last', name: links.last, width: 165, quiet: true, cell: (link) => <Time at={link.last} /> },
    { id: 'end', name: links.end, width: 130, card: 'end', cell: (link) => <Revoke link={link} /> },
  ]
}

function Named({ link }: { link: LinkFacts }) {
  const said = useTexts().links
  return (
    <>
      <SafeText>{link.address ?? said.notMadeHere}</SafeText>
      <Aside>
        {link.id}
        {link.maker && ` · ${said.by(link.maker)}`}
      </Aside>
    </>
  )
}

function Stands({ link }: { link: LinkFacts }) {
  const said = useTexts().links
  const stands = standing(link, new Date())
  const [colour, mark] = LOOKS[stands]
  return (
    <Word $colour={colour}>
      <span aria-hidden="true">{mark}</span> {said.states[stands]}
    </Word>
  )
}

/** Ends a link; what cannot be undone is asked for twice. */
function Revoke({ link }: { link: LinkFacts }) {
  const texts = useTexts()
  const revoke = useRevokeLink()
  if (link.state !== 'holds') return null
  if (revoke.error) return <span role="alert">{revoke.error.message}</span>
  return (
    <SureButton
      words={texts.links.revoke}
      sure={texts.common.really}
      label={texts.links.revokeOf(link.id)}
      sureLabel={texts.links.reallyRevokeOf(link.id)}
      isDisabled={revoke.isPending}
      onPress={() => revoke.mutate(link.id)}
    />
  )
}
