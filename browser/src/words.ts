// Numbers for people, in the forms that the terminal, the console and the pages share (`invio.core.figures`).

const UNITS = ['B', 'KiB', 'MiB', 'GiB', 'TiB']
const [MINUTE, HOUR, DAY] = [60, 3600, 86_400]

/** Bytes as `283 MiB`; a dash for what is not known. */
export function sizeText(bytes: number | null | undefined): string {
  if (bytes === null || bytes === undefined) return '–'
  const power = bytes < 1024 ? 0 : Math.min(UNITS.length - 1, Math.floor(Math.log(bytes) / Math.log(1024)))
  const value = bytes / 1024 ** power
  return `${power === 0 || value >= 100 ? value.toFixed(0) : value.toFixed(1)} ${UNITS[power] ?? ''}`
}

/** Seconds as `8 s`, `1 min 30 s`, `25 min`, `2 h 5 min` or `3 d 4 h`, rounded up; a dash for what is not known. */
export function durationText(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return '–'
  if (seconds <= MINUTE - 1) return `${Math.max(0, Math.ceil(seconds))} s`
  if (seconds <= 10 * MINUTE - 10) return pair(10 * Math.ceil(seconds / 10), MINUTE, 'min', 1, 's')
  if (seconds <= HOUR - MINUTE) return `${Math.ceil(seconds / MINUTE)} min`
  if (seconds <= DAY - MINUTE) return pair(MINUTE * Math.ceil(seconds / MINUTE), HOUR, 'h', MINUTE, 'min')
  return pair(HOUR * Math.ceil(seconds / HOUR), DAY, 'd', HOUR, 'h')
}

function pair(seconds: number, whole: number, unit: string, part: number, smaller: string): string {
  const rest = Math.floor((seconds % whole) / part)
  const first = `${Math.floor(seconds / whole)} ${unit}`
  return rest ? `${first} ${rest} ${smaller}` : first
}

/** `4 min 10 s left`; empty where nothing is left or nobody can tell. */
export function leftText(seconds: number | null | undefined): string {
  return seconds ? `${durationText(seconds)} left` : ''
}
