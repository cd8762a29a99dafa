// Downloads that the browser makes itself, and what the service says no to.
import { Refused, refusalOf, Unreachable } from '../api/problems'
import { texts } from '../texts'

const KEPT = 600_000 // milliseconds for which the frame of a download stays
const APART = 1500 // milliseconds between two downloads: browsers drop those that are asked for in the same moment

/**
 * Has the browser fetch what a path delivers, and tells when that is refused.
 *
 * A frame is shown what it gets and saves what is to be saved: when it has loaded something, that was no file.
 */
export function save(path: string, onRefused: (error: Error) => void): void {
  const frame = document.createElement('iframe')
  frame.hidden = true
  frame.title = 'Download'
  frame.onload = () => {
    frame.remove()
    void refused(path).then((error) => error && onRefused(error))
  }
  frame.src = path + (path.includes('?') ? '&' : '?') + 'as=attachment'
  document.body.append(frame)
  setTimeout(() => frame.remove(), KEPT)
}

/** Why a path delivers nothing; null when by now it does. */
async function refused(path: string): Promise<Refused | Unreachable | null> {
  const leaving = new AbortController()
  try {
    const response = await fetch(path, { headers: { accept: 'application/json' }, signal: leaving.signal })
    if (!response.ok) return refusalOf(response, await response.json().catch(() => null))
    leaving.abort()
    return null
  } catch {
    return new Unreachable(texts().errors.downloadSilent)
  }
}

/** Has the browser fetch files, one after the other; it asks the person itself when they are many. */
export async function saveEach(
  paths: string[],
  onRefused: (error: Error) => void,
  onBegun: (count: number) => void,
): Promise<void> {
  for (const [place, path] of paths.entries()) {
    save(path, onRefused)
    onBegun(place + 1)
    if (place + 1 < paths.length) await pause(APART)
  }
}

export function pause(milliseconds: number): Promise<void> {
  return new Promise((resolve) => setTimeout(resolve, milliseconds))
}
