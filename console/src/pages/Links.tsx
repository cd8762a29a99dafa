import { useState } from 'react'
import { Collection, TableBody, TableHeader, TableLoadMoreItem } from 'react-aria-components'
import styled from 'styled-components'
import type { LinkFacts } from '../api/client'
import { Button } from '../components/Button'
import { timeText } from '../components/format'
import { LinkForm } from '../components/LinkForm'
import { Notice } from '../components/Notice'
import { Select } from '../components/Select'
import { Empty, Field, Head, Line, Table } from '../components/Table'
import { standing, useLinks, useRevokeLink } from '../data/links'
import { useNarrow } from '../data/narrow'
import { usePage } from '../data/page'
import { token } from '../theme'

const Title = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  justify-content: space-between;
  gap: 0.8rem;
  margin: 0 0 1rem;
  h2 {
    margin: 0;
    font: 600 1.2rem/1.25 ${token.serif};
  }
`

const Aside = styled.div`
  color: ${token.quiet};
  font-size: 0.85rem;
`

const Word = styled.span<{ $colour: string }>`
  color: ${(props) => props.$colour};
  font-weight: 600;
  white-space: nowrap;
`

const LOOKS = {
  good: [token.good, '✓'],
  'ends soon': [token.warn, '◔'],
  expired: [token.quiet, '–'],
  'used up': [token.quiet, '∅'],
  revoked: [token.bad, '✗'],
} as const

const STATES = [['', 'all of them'], ...Object.keys(LOOKS).map((state) => [state, state] as const)] as const

export function Links() {
  const { links, error, isPending, isFetchingNextPage, hasNextPage, fetchNextPage } = useLinks()
  const [state, setState] = useState('')
  const narrow = useNarrow()
  const heading = usePage('Links')
  const now = new Date()
  const shown = links.filter((link) => !state || standing(link, now) === state)
  return (
    <>
      <h1 {...heading}>Links</h1>
      <LinkForm />
      <Title>
        <h2>Links there are</h2>
        <Select label="Show" value={state} choices={STATES} onChange={setState} />
      </Title>
      {error && <Notice error={error} />}
      <Table aria-label="Links">
        <TableHeader>
          <Head isRowHeader width="3fr" minWidth={140}>
            File
          </Head>
          <Head width={120}>State</Head>
          {!narrow && <Head width="1.2fr">For</Head>}
          {!narrow && <Head width={165}>Until</Head>}
          {!narrow && (
            <Head $right width={90}>
              Uses
            </Head>
          )}
          <Head width={narrow ? 110 : 130}>End it</Head>
        </TableHeader>
        <TableBody
          dependencies={[narrow, state]}
          renderEmptyState={() => (
            <Empty role="status">{isPending ? 'Looking …' : 'There are no such links.'}</Empty>
          )}
        >
          <Collection items={shown}>
            {(link) => <Entry id={link.id} link={link} narrow={narrow} now={now} />}
          </Collection>
          {hasNextPage && (
            <TableLoadMoreItem
              isLoading={isFetchingNextPage}
              onLoadMore={() => {
                if (!isFetchingNextPage) void fetchNextPage()
              }}
            >
              Looking …
            </TableLoadMoreItem>
          )}
        </TableBody>
      </Table>
    </>
  )
}

interface Row {
  id: string // a link's own `key` is that of its seal, and no name for a row
  link: LinkFacts
  narrow: boolean
  now: Date
}

function Entry({ id, link, narrow, now }: Row) {
  const stands = standing(link, now)
  const [colour, mark] = LOOKS[stands]
  return (
    <Line id={id} textValue={link.address ?? link.id}>
      <Field>
        <bdi>{link.address ?? 'not made here'}</bdi>
        <Aside>
          {link.id}
          {link.maker && ` · by ${link.maker}`}
        </Aside>
      </Field>
      <Field>
        <Word $colour={colour}>
          <span aria-hidden="true">{mark}</span> {stands}
        </Word>
      </Field>
      {!narrow && <Field $quiet>{link.recipient ?? 'anyone'}</Field>}
      {!narrow && <Field $quiet>{link.until ? timeText(link.until) : 'for good'}</Field>}
      {!narrow && (
        <Field $right>
          {link.used}
          {link.uses !== null && ` of ${link.uses}`}
        </Field>
      )}
      <Field>{(stands === 'good' || stands === 'ends soon') && <Revoke link={link} />}</Field>
    </Line>
  )
}

/** Ends a link; what cannot be undone is asked for twice. */
function Revoke({ link }: { link: LinkFacts }) {
  const [sure, setSure] = useState(false)
  const revoke = useRevokeLink()
  if (revoke.error) return <span role="alert">{revoke.error.message}</span>
  return (
    <Button
      aria-label={`${sure ? 'Really revoke' : 'Revoke'} ${link.id}`}
      isDisabled={revoke.isPending}
      onPress={() => (sure ? revoke.mutate(link.id) : setSure(true))}
      onBlur={() => setSure(false)}
    >
      {sure ? 'Really?' : 'Revoke'}
    </Button>
  )
}
