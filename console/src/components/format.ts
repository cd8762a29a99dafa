// Numbers for people.
const UNITS = ['B', 'KiB', 'MiB', 'GiB', 'TiB']

export function sizeText(bytes: number | null | undefined): string {
  if (bytes === null || bytes === undefined) return '–'
  const power = bytes < 1024 ? 0 : Math.min(UNITS.length - 1, Math.floor(Math.log(bytes) / Math.log(1024)))
  const value = bytes / 1024 ** power
  return `${power === 0 || value >= 100 ? value.toFixed(0) : value.toFixed(1)} ${UNITS[power] ?? ''}`
}

export function durationText(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return ''
  const whole = Math.ceil(seconds)
  const [hours, minutes, rest] = [Math.floor(whole / 3600), Math.floor(whole / 60) % 60, whole % 60]
  const pair = (value: number) => value.toString().padStart(2, '0')
  return hours ? `${hours}:${pair(minutes)}:${pair(rest)}` : `${minutes}:${pair(rest)}`
}

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
