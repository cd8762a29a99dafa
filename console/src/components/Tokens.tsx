// Somebody's access tokens: those that hold, ending one, and making one, which is shown once.
import { useState, type SubmitEvent } from 'react'
import styled from 'styled-components'
import type { Recipient } from '../api/client'
import { useEndToken, useMakeToken } from '../data/people'
import { useTexts } from '../texts'
import { token } from '../theme'
import { Button } from './Button'
import { Quiet, Row } from './Card'
import { CopyButton } from './CopyButton'
import { Notice } from './Notice'
import { Rows } from './Rows'
import { SureButton } from './SureButton'
import { TextField } from './TextField'
import { Time } from './Time'

const Made = styled.div`
  margin: 0.6rem 0;
  padding: 0.7rem 1rem;
  border-left: 4px solid ${token.warn};
  background: ${token.wash};
  code {
    display: block;
    margin: 0.3rem 0;
    overflow-wrap: anywhere;
  }
`

export function Tokens({ recipient, makes }: { recipient: Recipient; makes: boolean }) {
  const said = useTexts().people
  const common = useTexts().common
  const end = useEndToken(recipient.id)
  return (
    <>
      <Rows
        label={said.tokens}
        rows={recipient.tokens}
        idOf={(one) => one.id}
        textOf={(one) => one.label || one.id}
        empty={said.noTokens}
        columns={[
          { id: 'label', name: said.label, width: '2fr', cell: (one) => one.label || one.id },
          {
            id: 'created',
            name: said.created,
            width: 170,
            quiet: true,
            cell: (one) => <Time at={one.created} />,
          },
          { id: 'used', name: said.lastUsed, width: 170, quiet: true, cell: (one) => <Time at={one.used} /> },
          {
            id: 'expires',
            name: said.expires,
            width: 170,
            quiet: true,
            cell: (one) => (one.expires ? <Time at={one.expires} /> : common.never),
          },
          {
            id: 'end',
            name: said.endToken,
            width: 130,
            card: 'end',
            cell: (one) => (
              <SureButton
                words={said.endToken}
                sure={common.really}
                label={said.endTokenOf(one.label || one.id)}
                onPress={() => end.mutate(one.id)}
              />
            ),
          },
        ]}
      />
      {end.error && <Notice error={end.error} />}
      {makes && <MakeToken recipient={recipient.id} />}
    </>
  )
}

function MakeToken({ recipient }: { recipient: string }) {
  const said = useTexts().people
  const [label, setLabel] = useState('')
  const make = useMakeToken(recipient)
  function submit(event: SubmitEvent) {
    event.preventDefault()
    make.mutate(label, { onSuccess: () => setLabel('') })
  }
  return (
    <form onSubmit={submit}>
      <Row>
        <TextField label={said.label} value={label} onChange={setLabel} maxLength={200} />
        <Button type="submit" isDisabled={make.isPending}>
          {said.makeToken}
        </Button>
      </Row>
      {make.error && <Notice error={make.error} />}
      {make.data?.token && (
        <Made role="status">
          <Quiet>{said.tokenOnce}</Quiet>
          <code>{make.data.token}</code>
          <CopyButton key={make.data.id} text={make.data.token} words={said.copyToken} />
        </Made>
      )}
    </form>
  )
}
