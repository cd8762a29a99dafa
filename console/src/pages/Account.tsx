import { Card, Columns, Quiet } from '../components/Card'
import { Notice } from '../components/Notice'
import { Password } from '../components/Password'
import { QuotaBar } from '../components/QuotaBar'
import { Sessions } from '../components/Sessions'
import { Tokens } from '../components/Tokens'
import { useRecipient } from '../data/people'
import { usePage } from '../data/page'
import { useOwnQuotas } from '../data/quotas'
import { useMe } from '../data/session'
import { useTexts } from '../texts'

/** What is one's own: quotas in words, tokens, password, sessions. */
export function Account() {
  const said = useTexts().account
  const heading = usePage(said.title)
  const me = useMe().data
  return (
    <>
      <h1 {...heading}>{said.title}</h1>
      {me?.recipient && <Own recipient={me.recipient} groups={me.groups} administers={me.administers} />}
    </>
  )
}

function Own({
  recipient,
  groups,
  administers,
}: {
  recipient: string
  groups: string[]
  administers: boolean
}) {
  const texts = useTexts()
  const said = texts.account
  const known = useRecipient(recipient)
  const quotas = useOwnQuotas()
  return (
    <>
      <Quiet>
        {said.hello(recipient)} {groups.length ? said.groups(groups.join(', ')) : said.noGroups}
      </Quiet>
      <Columns>
        <Card>
          <h2>{said.quotas}</h2>
          {quotas.error && <Notice error={quotas.error} />}
          {quotas.data?.quotas.length === 0 && <Quiet>{said.noQuotas}</Quiet>}
          {quotas.data?.quotas.map((quota) => (
            <div key={quota.rule}>
              <Quiet>{quota.rule}</Quiet>
              <QuotaBar quota={quota} />
            </div>
          ))}
        </Card>
        <Card>
          <h2>{said.password}</h2>
          <Password recipient={recipient} own={!administers} />
          <h2>{texts.people.sessions}</h2>
          <Sessions recipient={recipient} />
        </Card>
      </Columns>
      <h2>{said.tokens}</h2>
      {known.error && <Notice error={known.error} />}
      {known.data && <Tokens recipient={known.data} makes={administers} />}
    </>
  )
}
