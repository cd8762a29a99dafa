// <invio-download href="LINK">Download</invio-download>: a button, and below it how far the download is.
import { Download, download } from './download'
import { isOver, NOTHING, type Progress } from './progress'
import { leftText, sizeText } from './words'

const STYLE = `
:host { display: inline-block; max-width: 100%; font: inherit; color-scheme: light dark;
  --invio-accent: light-dark(#0b5f6b, #6cc5cf); --invio-on-accent: light-dark(#fffdf8, #12191e);
  --invio-track: light-dark(#d9d2c3, #33424c); --invio-quiet: light-dark(#55646e, #a2afb7);
  --invio-bad: light-dark(#a4262c, #ff9d94); }
:host([hidden]) { display: none; }
button { font: inherit; padding: .5em 1.1em; border: 1px solid transparent; border-radius: .35em; cursor: pointer;
  color: var(--invio-on-accent); background: var(--invio-accent); }
button[aria-disabled=true] { opacity: .65; cursor: default; }
button:focus-visible, ::slotted(a:focus-visible) { outline: 3px solid var(--invio-accent); outline-offset: 2px; }
.progress { display: none; min-width: 14em; margin-top: .5em; }
.progress.shown { display: block; }
.track { height: .5em; border-radius: .25em; background: var(--invio-track); overflow: hidden; }
.fill { height: 100%; width: 0; border-radius: inherit; background: var(--invio-accent); transition: width .25s linear; }
.track.unknown .fill { width: 30%; animation: passing 1.6s ease-in-out infinite alternate; }
.figures { margin-top: .25em; font-size: .875em; color: var(--invio-quiet); font-variant-numeric: tabular-nums; }
.bad { color: var(--invio-bad); }
.heard { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); white-space: nowrap; }
@keyframes passing { to { margin-left: 70%; } }
@media (prefers-reduced-motion: reduce) { .fill { transition: none; animation: none !important; } }
@media (forced-colors: active) { .track { border: 1px solid CanvasText; } .fill { background: Highlight;
  forced-color-adjust: none; } button { border-color: ButtonText; } }
`

const MARKUP = `
<span part="action"></span>
<div class="progress" part="progress">
  <div class="track" part="bar" role="progressbar" aria-valuemin="0" aria-valuemax="100" aria-label="Download">
    <div class="fill" part="fill"></div>
  </div>
  <div class="figures" part="figures"></div>
</div>
<div class="heard" role="status" aria-live="polite"></div>
`

const STATES: Partial<Record<Progress['state'], string>> = {
  preparing: 'Preparing …',
  waiting: 'Waiting for the browser to begin …',
  paused: 'Paused',
  complete: 'Complete',
  'handed-off': 'Begun; see the browser’s own list of downloads',
  cancelled: 'Cancelled',
}
const ANNOUNCED = [25, 50, 75, 100]

/** What is shown below the bar. */
export function figures(progress: Progress): string {
  const { state, bytes, size, percent, estimated, rate, secondsLeft, reason } = progress
  if (state === 'refused') return `Refused: ${reason ?? 'the link is over'}`
  if (state === 'broken-off' || state === 'partial')
    return `Broken off at ${percent === null ? sizeText(bytes) : `${percent} %`}${reason ? `: ${reason}` : ''}`
  const known = STATES[state]
  if (known) return state === 'complete' && size !== null ? `${known}, ${sizeText(size)}` : known
  const done = percent === null ? sizeText(bytes) : `${estimated ? '≈ ' : ''}${percent} %`
  const speed = rate === null ? '' : rate ? `${sizeText(rate)}/s` : 'nothing arrives at present'
  return [done, speed, leftText(secondsLeft), reason].filter(Boolean).join(' · ')
}

// Where there is no document (a page that is made on a server) the module can be loaded, and defines nothing.
const Base =
  (globalThis as { HTMLElement?: typeof HTMLElement }).HTMLElement ??
  (Object as unknown as typeof HTMLElement)

/** The element. Events: `invio-progress` at each state and `invio-end` at the last, their `detail` a Progress. */
export class InvioDownload extends Base {
  static readonly observedAttributes = ['href']

  /** How far the latest download is. */
  progress: Progress = NOTHING
  private current: Download | null = null
  private announced = 0
  private readonly shadow: ShadowRoot

  constructor() {
    super()
    this.shadow = this.attachShadow({ mode: 'open', delegatesFocus: true })
    const sheet = new CSSStyleSheet()
    sheet.replaceSync(STYLE)
    this.shadow.adoptedStyleSheets = [sheet]
    this.shadow.innerHTML = MARKUP
  }

  /** The link, or the address on the same service, that is downloaded. */
  get href(): string {
    return this.getAttribute('href') ?? this.querySelector('a')?.getAttribute('href') ?? ''
  }

  set href(link: string) {
    this.setAttribute('href', link)
  }

  connectedCallback(): void {
    const action = this.part_('action')
    // A page that works without scripts has an anchor in the element: it stays, and is listened to.
    if (this.querySelector('a')) action.innerHTML = '<slot></slot>'
    else action.innerHTML = '<button type="button" part="button"><slot>Download</slot></button>'
    action.addEventListener('click', this.clicked)
  }

  disconnectedCallback(): void {
    this.part_('action').removeEventListener('click', this.clicked)
    this.current?.cancel() // the browser's own download goes on
  }

  attributeChangedCallback(): void {
    if (this.current && isOver(this.progress.state)) this.show(NOTHING, false)
  }

  /** Begins, as a click on the button does; while one is under way, gives that one. */
  start(): Download {
    if (this.current && !isOver(this.progress.state)) return this.current
    this.announced = 0
    const into = this.getAttribute('into') === 'memory' ? 'memory' : 'browser'
    const current = download(this.href, {
      into,
      onProgress: (progress) => this.onProgress(current, progress),
    })
    this.current = current
    void current.ended.then((progress) => this.onEnd(current, progress))
    return current
  }

  private readonly clicked = (event: Event): void => {
    event.preventDefault()
    this.start()
  }

  private onProgress(download: Download, progress: Progress): void {
    if (this.current !== download) return
    this.show(progress)
    this.dispatchEvent(
      new CustomEvent('invio-progress', {
        detail: progress,
        bubbles: true,
        composed: true,
      }),
    )
  }

  private onEnd(download: Download, progress: Progress): void {
    if (this.current !== download) return
    this.show(progress)
    if (progress.state !== 'complete') this.announce(figures(progress))
    if (download.blob) offer(download.blob, download.name)
    this.dispatchEvent(
      new CustomEvent('invio-end', {
        detail: progress,
        bubbles: true,
        composed: true,
      }),
    )
  }

  private show(progress: Progress, shown = true): void {
    this.progress = progress
    const [bar, fill, text] = [this.part_('bar'), this.part_('fill'), this.part_('figures')]
    const under = !isOver(progress.state)
    this.part_('progress').classList.toggle('shown', shown)
    bar.classList.toggle('unknown', under && progress.percent === null)
    const percent = progress.state === 'complete' ? 100 : progress.percent
    if (percent === null) bar.removeAttribute('aria-valuenow')
    else bar.setAttribute('aria-valuenow', String(percent))
    bar.setAttribute('aria-valuetext', figures(progress))
    fill.style.width = bar.classList.contains('unknown') ? '' : `${percent ?? 0}%`
    text.textContent = figures(progress)
    text.classList.toggle('bad', ['refused', 'broken-off', 'partial'].includes(progress.state))
    this.shadow.querySelector('button')?.setAttribute('aria-disabled', String(shown && under))
    const reached = ANNOUNCED.filter((one) => percent !== null && percent >= one).at(-1) ?? 0
    if (shown && reached > this.announced) {
      this.announced = reached
      this.announce(reached === 100 ? 'Download complete' : `${reached} %`)
    }
  }

  private announce(text: string): void {
    const heard = this.shadow.querySelector('.heard')
    if (heard) heard.textContent = text
  }

  private part_(name: string): HTMLElement {
    const found = this.shadow.querySelector<HTMLElement>(`[part=${name}]`)
    if (!found) throw new Error(`no part ${name}`)
    return found
  }
}

/** Has the browser save a Blob. */
function offer(blob: Blob, name: string): void {
  const anchor = document.createElement('a')
  anchor.href = URL.createObjectURL(blob)
  anchor.download = name
  anchor.click()
  setTimeout(() => URL.revokeObjectURL(anchor.href), 10_000)
}

/** Defines the element, once on a page however often the module is there. */
export function define(): void {
  const registry = (globalThis as { customElements?: CustomElementRegistry }).customElements
  if (registry && !registry.get('invio-download')) registry.define('invio-download', InvioDownload)
}
