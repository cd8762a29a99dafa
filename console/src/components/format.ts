// Numbers and times for people.
import { language } from '../texts'

export { durationText, sizeText } from '../../../browser/src/words'

/** A time of RFC 3339, or in Unix seconds, as `2026-01-15 08:00`, in the reader's own time zone. */
export function timeText(given: string | number | null | undefined): string {
  if (given === null || given === undefined || given === '') return ''
  const when = new Date(typeof given === 'number' ? given * 1000 : given)
  const pair = (value: number) => value.toString().padStart(2, '0')
  const day = `${when.getFullYear()}-${pair(when.getMonth() + 1)}-${pair(when.getDate())}`
  return `${day} ${pair(when.getHours())}:${pair(when.getMinutes())}`
}

/** The same time at UTC, as a title to `timeText`. */
export function utcText(text: string): string {
  return `${new Date(text).toISOString().slice(0, 16).replace('T', ' ')} UTC`
}

export function numberText(count: number): string {
  return count.toLocaleString(language())
}

/** A moment to come, as near as it is: by its weekday within a week, else by its date. */
export function soonText(text: string, now: Date): string {
  const when = new Date(text)
  const within = when.getTime() - now.getTime() < 6 * 86_400_000
  const form: Intl.DateTimeFormatOptions = within
    ? { weekday: 'long', hour: '2-digit', minute: '2-digit' }
    : { dateStyle: 'medium' }
  return when.toLocaleString(language(), form)
}
