import { useEndSessions, useSessions } from '../data/people'
import { useTexts } from '../texts'
import { Quiet, Row } from './Card'
import { Facts } from './Facts'
import { timeText } from './format'
import { Notice } from './Notice'
import { SureButton } from './SureButton'

/** Where somebody is signed in, and signing them out everywhere. */
export function Sessions({ recipient }: { recipient: string }) {
  const said = useTexts().people
  const common = useTexts().common
  const { data, error } = useSessions(recipient)
  const end = useEndSessions(recipient)
  if (error) return <Notice error={error} />
  if (!data?.sessions.length) return <Quiet role="status">{said.noSessions}</Quiet>
  return (
    <>
      <Facts facts={data.sessions.map((one) => [timeText(one.created), one.opened_by ?? one.id])} />
      <Row>
        <SureButton words={said.endSessions} sure={common.really} onPress={() => end.mutate(undefined)} />
      </Row>
      {end.error && <Notice error={end.error} />}
    </>
  )
}
