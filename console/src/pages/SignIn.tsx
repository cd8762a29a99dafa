import { useNavigate, useSearch } from '@tanstack/react-router'
import { useEffect, useState, type SubmitEvent } from 'react'
import { Input, Label, TextField } from 'react-aria-components'
import styled from 'styled-components'
import { root } from '../api/root'
import { placeHere } from '../data/place'
import { usePage } from '../data/page'
import { useMe, useSignIn } from '../data/session'
import { MainButton } from '../components/Button'
import { Notice } from '../components/Notice'
import { useTexts } from '../texts'
import { token } from '../theme'

const Card = styled.form`
  max-width: 27rem;
  margin: 7vh auto 0;
  padding: 2rem 2.2rem 2.2rem;
  border: 1px solid ${token.line};
  border-top: 4px solid ${token.accent};
  border-radius: ${token.radius};
  background: ${token.surface};
`

const Field = styled(TextField)`
  display: grid;
  gap: 0.3rem;
  margin: 1.2rem 0;
  label {
    font-weight: 600;
  }
  input {
    padding: 0.55rem 0.7rem;
    border: 1px solid ${token.quiet};
    border-radius: ${token.radius};
    background: ${token.raised};
    color: inherit;
    font: inherit;
  }
`

const Hint = styled.p`
  margin: 0.5rem 0 0;
  color: ${token.quiet};
`

const Other = styled.button`
  display: block;
  margin-top: 1.1rem;
  padding: 0;
  border: 0;
  background: none;
  color: ${token.accent};
  font: inherit;
  text-decoration: underline;
  cursor: pointer;
`

export function SignIn() {
  const [secret, setSecret] = useState('')
  const [recipient, setRecipient] = useState('')
  const [byPassword, setByPassword] = useState(false)
  const signIn = useSignIn()
  const navigate = useNavigate()
  const { then } = useSearch({ from: '/sign-in' })
  const me = useMe()
  const texts = useTexts().signIn
  const heading = usePage(texts.title)
  const place = placeHere(then)
  // Somebody who followed a link from another site is signed in, though that request did not say so.
  const leaving = place !== undefined && (signIn.isSuccess || Boolean(me.data?.recipient))

  useEffect(() => {
    if (leaving) window.location.assign(place)
  }, [leaving, place])

  function submit(event: SubmitEvent) {
    event.preventDefault()
    signIn.mutate(byPassword ? { recipient: recipient.trim(), password: secret } : { token: secret.trim() }, {
      onSuccess: () => {
        setSecret('')
        if (!place) void navigate({ to: '/files/$', params: { _splat: '' } })
      },
    })
  }

  if (leaving)
    return (
      <Card as="section">
        <h1 {...heading}>{texts.signedIn}</h1>
        <Hint role="status">
          {texts.follows}
          <a href={`${root}/console/`}>{texts.filesLink}</a>.
        </Hint>
      </Card>
    )

  return (
    <Card onSubmit={submit}>
      <h1 {...heading}>{texts.title}</h1>
      <Hint>
        {then ? texts.notOpen : ''}
        {byPassword ? texts.passwordHint : texts.tokenHint}
      </Hint>
      {byPassword && (
        <Field value={recipient} onChange={setRecipient} isRequired autoFocus>
          <Label>{texts.recipient}</Label>
          <Input autoComplete="username" spellCheck={false} />
        </Field>
      )}
      <Field
        key={String(byPassword)}
        value={secret}
        onChange={setSecret}
        type="password"
        isRequired
        autoFocus={!byPassword}
      >
        <Label>{byPassword ? texts.password : texts.token}</Label>
        <Input autoComplete="current-password" spellCheck={false} />
      </Field>
      {signIn.error && <Notice error={signIn.error} />}
      <MainButton type="submit" isDisabled={signIn.isPending}>
        {signIn.isPending ? texts.signingIn : texts.title}
      </MainButton>
      <Other
        type="button"
        onClick={() => {
          setByPassword(!byPassword)
          setSecret('')
          signIn.reset()
        }}
      >
        {byPassword ? texts.useToken : texts.usePassword}
      </Other>
    </Card>
  )
}
