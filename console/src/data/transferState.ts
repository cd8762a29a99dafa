// What a transfer's state is for a person, who wants to know whether anything will still come of it.
import type { Transfer } from '../api/client'

export type Shown = Transfer['state'] | 'waiting' | 'paused'

/** What a state is told by; of the history, what was refused is a line as well. */
export type Stated = Pick<Transfer, 'rate' | 'bytes' | 'reason'> & { state: Transfer['state'] | 'refused' }

/**
 * A running transfer of which nothing arrives is waiting; one of which a part has arrived, and nothing was refused
 * nor broke off, is paused: whoever has the part may go on.
 */
export function stateOf(transfer: Stated): Shown | 'refused' {
  if (transfer.state === 'running') return transfer.rate === 0 && transfer.bytes > 0 ? 'waiting' : 'running'
  if (transfer.state === 'partial') return transfer.reason ? 'partial' : 'paused'
  return transfer.state
}
