// One download, wherever its bytes go, and how far it is.
import { follow } from './follow'
import { prepared, Refused } from './links'
import { Gate, intoFile, intoMemory } from './pieces'
import { NOTHING, type Progress, type State } from './progress'

export interface Options {
  /**
   * `browser` (the usual): the browser downloads it natively, to its own folder, of any size. `memory`: this page
   * fetches it into a Blob. A file handle, from `showSaveFilePicker()`: this page writes it there, and can pause.
   */
  into?: 'browser' | 'memory' | FileSystemFileHandle
  /** Told of each state, the first one at once. */
  onProgress?: (progress: Progress) => void
  /** Cancels it. Of a native download the page can only stop to follow. */
  signal?: AbortSignal
  /** Seconds for which a Blob in memory is kept, unless `free()` is called before; 60 when not given. */
  keep?: number
}

const KEPT = 60 // seconds

/** A download under way; made by `download`. */
export class Download {
  /** How far it is now. */
  progress: Progress = NOTHING
  /** Kept when it is over, with how it ended; a refusal ends it, too, and breaks no promise. */
  readonly ended: Promise<Progress>
  /** What was fetched into memory, until it is freed. */
  blob: Blob | null = null
  /** Its name, as the service gives it. */
  name = ''

  private readonly leaving = new AbortController()
  private readonly gate = new Gate()
  private freeing: ReturnType<typeof setTimeout> | undefined

  constructor(
    link: string | URL,
    private readonly options: Options,
  ) {
    options.signal?.addEventListener('abort', () => this.cancel(), {
      once: true,
    })
    if (options.signal?.aborted) this.leaving.abort()
    this.ended = this.run(link)
  }

  /** Ends it. What the browser downloads natively goes on there, and is followed no more. */
  cancel(): void {
    this.leaving.abort()
  }

  /** Waits, where the bytes go into a file; of no effect elsewhere. */
  pause(): void {
    if (typeof this.options.into === 'object') this.gate.close()
  }

  /** Goes on where it was paused. */
  resume(): void {
    this.gate.reopen()
  }

  /** Lets go of a Blob in memory. */
  free(): void {
    clearTimeout(this.freeing)
    this.blob = null
  }

  private tell(progress: Progress): void {
    this.progress = progress
    this.options.onProgress?.(progress)
  }

  private async run(link: string | URL): Promise<Progress> {
    await Promise.resolve() // whoever asked has the object first
    try {
      this.tell(NOTHING)
      const into = this.options.into ?? 'browser'
      if (into === 'browser') await this.natively(link)
      else if (into === 'memory') await this.toMemory(link)
      else
        await intoFile(
          absolute(link),
          into,
          this.gate,
          (progress) => this.tell(progress),
          this.leaving.signal,
        )
    } catch (error) {
      this.tell(this.failure(error))
    }
    return this.progress
  }

  private failure(error: unknown): Progress {
    const state: State = this.leaving.signal.aborted
      ? 'cancelled'
      : error instanceof Refused
        ? 'refused'
        : 'broken-off'
    const said = error instanceof Error ? error.message : String(error)
    const reason =
      state === 'cancelled' ? null : error instanceof Refused ? said : `the download failed: ${said}`
    return { ...this.progress, state, rate: null, secondsLeft: null, reason }
  }

  private async natively(link: string | URL): Promise<void> {
    const { href, follow: url } = await prepared(link, this.leaving.signal)
    if (this.leaving.signal.aborted) throw new DOMException('cancelled', 'AbortError')
    if (url === null) {
      begin(href)
      this.tell({ ...NOTHING, state: 'handed-off' })
      return
    }
    let begun = false
    const last = await follow(
      url,
      (progress) => {
        // Only once it is known that the link holds: what is refused would take the page's place.
        if (!begun && progress.state === 'waiting') begin(href)
        begun = true
        this.tell(progress)
      },
      this.leaving.signal,
    )
    this.tell(last)
  }

  private async toMemory(link: string | URL): Promise<void> {
    const told = (progress: Progress) => {
      if (progress.state !== 'complete') this.tell(progress) // which is told once the Blob is there
    }
    const fetched = await intoMemory(absolute(link), told, this.leaving.signal)
    this.blob = fetched.blob
    this.name = fetched.name
    this.freeing = setTimeout(() => this.free(), 1000 * (this.options.keep ?? KEPT))
    this.tell(fetched.progress)
  }
}

function absolute(link: string | URL): string {
  return new URL(link, document.baseURI).href.replace('/pickup/', '/get/')
}

/** Has the browser download what an address delivers, and the page stay. */
function begin(href: string): void {
  const anchor = document.createElement('a')
  anchor.href = href
  anchor.download = ''
  anchor.rel = 'noopener'
  // What is shown in place would take the page's: it gets a place of its own.
  if (/[?&]as=inline(&|$)/.test(href)) anchor.target = '_blank'
  anchor.hidden = true
  document.body.append(anchor)
  anchor.click()
  anchor.remove()
}

/** Downloads what a link or an address of the service delivers, and tells how far it is. */
export function download(link: string | URL, options: Options = {}): Download {
  return new Download(link, options)
}
