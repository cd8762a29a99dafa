import { timeText, utcText } from './format'

/** A moment in the reader's time zone, `exact` to the second; in UTC when one asks. */
export function Time({ at, exact }: { at: string | null | undefined; exact?: boolean }) {
  if (!at) return null
  return (
    <time dateTime={at} title={utcText(at)}>
      {timeText(at)}
      {exact && `:${at.slice(17, 19)}`}
    </time>
  )
}
