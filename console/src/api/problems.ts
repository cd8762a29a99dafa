// What can go wrong with a request: the service says no, or there is no answer of its.
import type { components } from './schema.gen'
import { texts } from '../texts'

type Problem = components['schemas']['Problem']

/** The service said no. `problem` is what it said, whole. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly problem: Partial<Problem>,
    readonly retryAfter: number | null,
  ) {
    super(problem.detail ?? texts().errors.answered(status))
  }

  get reason(): string {
    return this.problem.reason ?? 'unknown'
  }

  get names(): string[] {
    return this.problem.names ?? []
  }
}

/** No answer of the service came; it is asked again. */
export class Unreachable extends Error {}

/** The refusal that an answer is, by its body. */
export function refusalOf(response: Response, body: unknown): Refused | Unreachable {
  const problem = typeof body === 'object' && body !== null ? (body as Partial<Problem>) : null
  if (!problem?.reason) return new Unreachable(texts().errors.strangerWith(response.status))
  const after = Number(response.headers.get('retry-after'))
  return new Refused(response.status, problem, after > 0 ? after : null)
}
