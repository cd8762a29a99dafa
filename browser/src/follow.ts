// What the service tells of a download while the browser makes it.
import { refusalOf, Refused } from './links'
import { NOTHING, type Progress, type State } from './progress'

interface Told {
  state: State
  bytes: number
  size: number | null
  estimated_size: number | null
  percent: number | null
  rate: number | null
  seconds_left: number | null
  reason: string | null
}

const UNREACHABLE = 'the service cannot be reached'

/**
 * Follows until the end; `onProgress` is told of each state, the present one first. A lost connection is made again
 * by the browser; the promise is kept with the last state, and broken with a `Refused` where nothing may be followed.
 */
export function follow(
  url: string,
  onProgress: (progress: Progress) => void,
  signal?: AbortSignal,
): Promise<Progress> {
  return new Promise((resolve, reject) => {
    const source = new EventSource(url)
    let last = NOTHING
    const end = (settle: () => void) => {
      source.close()
      signal?.removeEventListener('abort', abort)
      settle()
    }
    const abort = () => end(() => resolve({ ...last, state: 'cancelled' }))
    signal?.addEventListener('abort', abort)
    source.addEventListener('transfer', (event: MessageEvent<string>) => {
      last = progressOf(event.data)
      onProgress(last)
    })
    source.addEventListener('end', (event: MessageEvent<string>) => {
      const told = progressOf(event.data)
      // What ends before it begins was refused: the link is over.
      last = told.state === 'waiting' ? { ...told, state: 'refused' } : told
      end(() => resolve(last))
    })
    source.addEventListener('error', () => {
      if (source.readyState !== EventSource.CLOSED) return
      // An event stream does not say why it was refused: the same is asked once more, as a program does.
      end(() => void whyNot(url, signal).then(reject))
    })
  })
}

async function whyNot(url: string, signal?: AbortSignal): Promise<Refused> {
  try {
    const leaving = new AbortController()
    signal?.addEventListener('abort', () => leaving.abort())
    const reply = await fetch(url, {
      headers: { accept: 'application/problem+json' },
      signal: leaving.signal,
    })
    if (!reply.ok) return await refusalOf(reply)
    leaving.abort()
    return new Refused(UNREACHABLE, 'unreachable', 0)
  } catch {
    return new Refused(UNREACHABLE, 'unreachable', 0)
  }
}

function progressOf(data: string): Progress {
  const told = JSON.parse(data) as Told
  return {
    state: told.state,
    bytes: told.bytes,
    size: told.size ?? told.estimated_size,
    percent: told.percent,
    estimated: told.estimated_size !== null,
    rate: told.rate,
    secondsLeft: told.seconds_left,
    reason: told.reason,
  }
}
