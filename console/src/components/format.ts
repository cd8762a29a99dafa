// Numbers for people.
export { durationText, sizeText } from '../../../browser/src/words'

/** A time of RFC 3339 as `2026-01-15 08:00`, in the reader's own time zone. */
export function timeText(text: string | null | undefined): string {
  if (!text) return ''
  const when = new Date(text)
  const pair = (value: number) => value.toString().padStart(2, '0')
  const day = `${when.getFullYear()}-${pair(when.getMonth() + 1)}-${pair(when.getDate())}`
  return `${day} ${pair(when.getHours())}:${pair(when.getMinutes())}`
}

export function countText(count: number, one: string, many: string): string {
  return `${count.toLocaleString('en')} ${count === 1 ? one : many}`
}
