// How far a download is, and the meter for those that this page makes itself.

export type State =
  | 'preparing' // a link is asked for, or the service is about to say how things stand
  | 'waiting' // the browser has been asked and has not begun
  | 'running'
  | 'paused'
  | 'complete'
  | 'partial'
  | 'broken-off'
  | 'handed-off' // another server sends it, which does not tell how far it is
  | 'refused'
  | 'cancelled'

/** Sizes in bytes, rates in bytes a second; null for what nobody knows. `percent` is whole and rounded down. */
export interface Progress {
  state: State
  bytes: number
  size: number | null
  percent: number | null
  /** Whether percentage and time left are by an estimate of the size. */
  estimated: boolean
  rate: number | null
  secondsLeft: number | null
  /** Why it ended, in the service's word for it or in words; null while nothing is wrong. */
  reason: string | null
}

export const NOTHING: Progress = {
  state: 'preparing',
  bytes: 0,
  size: null,
  percent: null,
  estimated: false,
  rate: null,
  secondsLeft: null,
  reason: null,
}

/** Whether nothing more comes of it. */
export function isOver(state: State): boolean {
  return ['complete', 'handed-off', 'broken-off', 'partial', 'refused', 'cancelled'].includes(state)
}

export function percentOf(bytes: number, size: number | null): number | null {
  if (size === null) return null
  return bytes >= size ? 100 : Math.floor((100 * bytes) / size)
}

const RATE_WINDOW = 5 // seconds
const LEFT_WINDOW = 20
const STALLED_AFTER = 5
const STEP = 0.25

/** `invio.core.meter`: the rate is of the last seconds, the time left by a longer while, so that it does not jump. */
export class Meter {
  private samples: [number, number][] = []
  private grew = 0

  /** There were `count` bytes at `now`, in seconds of any steady clock. */
  sample(now: number, count: number): void {
    const last = this.samples.at(-1)
    if (!last || count > last[1]) this.grew = now
    const before = this.samples.at(-2)
    if (last && before && last[0] - before[0] < STEP) this.samples.pop()
    this.samples.push([now, count])
    while (this.samples.length > 2 && (this.samples[1]?.[0] ?? now) <= now - LEFT_WINDOW) this.samples.shift()
  }

  rate(now: number): number | null {
    return this.mean(now, RATE_WINDOW)
  }

  secondsLeft(now: number, count: number, size: number | null): number | null {
    if (size === null) return null
    if (count >= size) return 0
    const mean = this.mean(now, LEFT_WINDOW)
    return mean ? (size - count) / mean : null
  }

  private mean(now: number, window: number): number | null {
    const [first, last] = [this.samples[0], this.samples.at(-1)]
    if (!first || !last || this.samples.length < 2) return null
    if (now - this.grew >= STALLED_AFTER) return 0
    let start = first
    for (const sample of this.samples.slice(0, -1)) {
      if (sample[0] > now - window && sample[0] > start[0]) break
      start = sample
    }
    return now > start[0] ? (last[1] - start[1]) / (now - start[0]) : null
  }
}
