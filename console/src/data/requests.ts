// Where in the time of all of a transfer's requests each one lies.

export interface Moments {
  readonly began: number
  readonly ended: number
}

interface Told {
  readonly started: string
  readonly ended: string
}

const LEAST = 0.8 // per cent: what took no time is seen all the same

/** From the first beginning to the last end, in milliseconds. */
export function spanOf(requests: readonly Told[]): Moments {
  return {
    began: Math.min(...requests.map((one) => Date.parse(one.started))),
    ended: Math.max(...requests.map((one) => Date.parse(one.ended))),
  }
}

/** A request's place and length in that time, in per cent of it. */
export function within(one: Told, all: Moments): { x: number; width: number } {
  const whole = Math.max(all.ended - all.began, 1)
  const width = Math.max(LEAST, (100 * (Date.parse(one.ended) - Date.parse(one.started))) / whole)
  const x = (100 * (Date.parse(one.started) - all.began)) / whole
  return { x: Math.min(x, 100 - width), width }
}
