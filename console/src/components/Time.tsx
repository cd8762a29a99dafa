import { timeText, utcText } from './format'

/** A moment in the reader's time zone; in UTC when one asks. */
export function Time({ at }: { at: string | null | undefined }) {
  if (!at) return null
  return (
    <time dateTime={at} title={utcText(at)}>
      {timeText(at)}
    </time>
  )
}
