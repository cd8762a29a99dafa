// The end of a link, counted down.
import { leftText } from './invio.js'

const FORMAT = new Intl.DateTimeFormat(undefined, { dateStyle: 'long', timeStyle: 'short' })
const MINUTE = 60

function show(element: HTMLTimeElement): void {
  const end = new Date(element.dateTime)
  const left = (end.getTime() - Date.now()) / 1000
  element.textContent =
    left > 0 ? `${FORMAT.format(end)} (${leftText(left)})` : `${FORMAT.format(end)}: the link has expired`
  if (left > 0) setTimeout(() => show(element), left > 10 * MINUTE ? MINUTE * 1000 : 1000)
}

document.querySelectorAll<HTMLTimeElement>('time.until').forEach(show)
