// Downloads that the page makes itself: into memory, or piece by piece into a file.
import { refusalOf, Refused } from './links'
import { Meter, NOTHING, percentOf, type Progress, type State } from './progress'

const PIECE = 4 * 1024 * 1024 // bytes; the service tells the digest of a range up to this long
const TRIES = 8 // one after the other that bring nothing
const LONGEST_WAIT = 15_000 // milliseconds between two of them

type OnProgress = (progress: Progress) => void

class Teller {
  private meter = new Meter()
  bytes = 0
  size: number | null = null

  constructor(private readonly onProgress: OnProgress) {}

  tell(state: State, reason: string | null = null): Progress {
    const now = performance.now() / 1000
    this.meter.sample(now, this.bytes)
    const runs = state === 'running'
    const progress: Progress = {
      ...NOTHING,
      state,
      bytes: this.bytes,
      size: this.size,
      percent: percentOf(this.bytes, this.size),
      rate: runs ? this.meter.rate(now) : null,
      secondsLeft: runs ? this.meter.secondsLeft(now, this.bytes, this.size) : null,
      reason,
    }
    this.onProgress(progress)
    return progress
  }
}

/** Fetches all of it into memory. Raises Refused; what the network does otherwise is raised as it comes. */
export async function intoMemory(
  href: string,
  onProgress: OnProgress,
  signal: AbortSignal,
): Promise<{ progress: Progress; blob: Blob; name: string }> {
  const reply = await fetch(href, { signal })
  if (!reply.ok) throw await refusalOf(reply)
  const teller = new Teller(onProgress)
  const length = reply.headers.get('content-length')
  teller.size = length !== null && !reply.headers.get('content-encoding') ? Number(length) : null
  const chunks: Uint8Array<ArrayBuffer>[] = []
  let told = 0
  for (const reader = reply.body?.getReader(); reader;) {
    const { done, value } = await reader.read()
    if (done) break
    chunks.push(value)
    teller.bytes += value.length
    if (performance.now() - told < 100) continue
    told = performance.now()
    teller.tell('running')
  }
  teller.size = teller.bytes
  const blob = new Blob(chunks, {
    type: reply.headers.get('content-type') ?? 'application/octet-stream',
  })
  return { progress: teller.tell('complete'), blob, name: nameOf(reply, href) }
}

function nameOf(reply: Response, href: string): string {
  const said = reply.headers.get('content-disposition') ?? ''
  const extended = /filename\*=UTF-8''([^;]+)/i.exec(said)?.[1]
  const plain = /filename="([^"]*)"/i.exec(said)?.[1]
  return extended
    ? decodeURIComponent(extended)
    : (plain ?? decodeURIComponent(new URL(href).pathname.split('/').at(-1) ?? ''))
}

/** A gate that is open or shut. */
export class Gate {
  private shut: Promise<void> | null = null
  private open: () => void = () => undefined
  private leaving = new AbortController()

  get isShut(): boolean {
    return this.shut !== null
  }

  /** Aborts with the gate: what is under way while it is shut is broken off. */
  get signal(): AbortSignal {
    return this.leaving.signal
  }

  close(): void {
    if (this.shut) return
    this.shut = new Promise((resolve) => (this.open = resolve))
    this.leaving.abort()
  }

  reopen(): void {
    if (!this.shut) return
    this.leaving = new AbortController()
    this.shut = null
    this.open()
  }

  async passed(): Promise<void> {
    await this.shut
  }
}

/**
 * Fetches into a file, range by range, each verified by the digest that the service tells of it. A lost connection is
 * made again; a content that has changed meanwhile is refused, never mixed (`If-Range`).
 */
export async function intoFile(
  href: string,
  file: FileSystemFileHandle,
  gate: Gate,
  onProgress: OnProgress,
  signal: AbortSignal,
): Promise<Progress> {
  const teller = new Teller(onProgress)
  const writable = await file.createWritable()
  let etag: string | null = null
  let failures = 0
  try {
    while (teller.size === null || teller.bytes < teller.size) {
      if (gate.isShut) {
        teller.tell('paused')
        await Promise.race([gate.passed(), aborted(signal)])
      }
      signal.throwIfAborted()
      try {
        const piece: Piece = await fetchPiece(
          href,
          teller.bytes,
          etag,
          AbortSignal.any([signal, gate.signal]),
        )
        if (piece.bytes.length) await writable.write(piece.bytes)
        teller.bytes += piece.bytes.length
        teller.size = piece.size
        etag = piece.etag
        failures = 0
        teller.tell('running')
      } catch (error) {
        signal.throwIfAborted()
        if (gate.isShut) continue
        if (error instanceof Refused && error.status < 500) throw error
        if (++failures > TRIES) throw error
        teller.tell('running', 'the connection was lost; it is made again')
        await Promise.race([pause(Math.min(LONGEST_WAIT, 250 * 2 ** failures)), aborted(signal)])
      }
    }
    await writable.close()
    return teller.tell('complete')
  } catch (error) {
    await writable.abort().catch(() => undefined)
    throw error
  }
}

interface Piece {
  bytes: Uint8Array<ArrayBuffer>
  size: number
  etag: string | null
}

async function fetchPiece(
  href: string,
  start: number,
  etag: string | null,
  signal: AbortSignal,
): Promise<Piece> {
  const headers: Record<string, string> = {
    range: `bytes=${start}-${start + PIECE - 1}`,
    'want-content-digest': 'sha-256=1',
    ...(etag !== null && { 'if-range': etag }),
  }
  const reply = await fetch(href, { headers, signal, cache: 'no-store' })
  const empty = reply.status === 416 && start === 0 // a file of no bytes has no range
  if (empty)
    return {
      bytes: new Uint8Array(),
      size: 0,
      etag: reply.headers.get('etag'),
    }
  if (!reply.ok) throw await refusalOf(reply)
  const part = /^bytes (\d+)-(\d+)\/(\d+)$/.exec(reply.headers.get('content-range') ?? '')
  const now = reply.headers.get('etag')
  // What stands in between may answer with another part, or one of another content, than was asked for.
  if (reply.status !== 206 || !part || Number(part[1]) !== start || (etag !== null && now !== etag)) {
    await reply.body?.cancel()
    const said =
      etag === null ? 'the service sends no ranges of it' : 'the file has changed meanwhile; start again'
    throw new Refused(said, 'changed', 412)
  }
  const bytes = new Uint8Array(await reply.arrayBuffer())
  if (bytes.length !== Number(part[2]) - start + 1)
    throw new Refused('a piece did not arrive as it was sent', 'bad-digest', 502)
  const digest = /sha-256=:([^:]+):/.exec(reply.headers.get('content-digest') ?? '')?.[1]
  const crypto = globalThis.crypto as Crypto | undefined
  if (digest && crypto?.subtle && (await sha256(bytes, crypto)) !== digest)
    throw new Refused('a piece did not arrive as it was sent', 'bad-digest', 502)
  return { bytes, size: Number(part[3]), etag: now }
}

async function sha256(bytes: Uint8Array<ArrayBuffer>, crypto: Crypto): Promise<string> {
  return btoa(String.fromCharCode(...new Uint8Array(await crypto.subtle.digest('SHA-256', bytes))))
}

function pause(milliseconds: number): Promise<void> {
  return new Promise((resolve) => setTimeout(resolve, milliseconds))
}

function aborted(signal: AbortSignal): Promise<void> {
  return new Promise((resolve) => signal.addEventListener('abort', () => resolve(), { once: true }))
}
