// Sealed links in the browser: narrowed with a tag, so that one download can be followed, by the page's own crypto.

/** What keeps a download from being followed. */
export class Refused extends Error {
  constructor(
    message: string,
    readonly reason: string,
    readonly status: number,
  ) {
    super(message)
    this.name = 'Refused'
  }
}

export interface Prepared {
  /** What the browser fetches. */
  href: string
  /** Where it is told how far it is; null where that cannot be had. */
  follow: string | null
}

const GET = '/get/'
const SEAL = /[?&]seal=[A-Za-z0-9_-]{43}$/
const TAG = /[?&]tag=/

/** The link as it is fetched and followed: with a tag of its own, and for a plain address by a short link. */
export async function prepared(given: string | URL, signal?: AbortSignal): Promise<Prepared> {
  const url = new URL(given, document.baseURI)
  url.hash = ''
  url.pathname = url.pathname.replace('/pickup/', GET)
  if (!url.pathname.includes(GET)) return { href: url.href, follow: null }
  if (!SEAL.test(url.search)) return shortLink(url, signal)
  if (TAG.test(url.search)) return followed(url.href)
  // Not on a page without TLS: there the download is made all the same, and nobody is told how far it is.
  const crypto = globalThis.crypto as Crypto | undefined
  if (!crypto?.subtle) return { href: url.href, follow: null }
  return followed(await narrowed(url.href, 'tag', randomTag(crypto), crypto))
}

function followed(href: string): Prepared {
  const place = href.indexOf(GET)
  return {
    href,
    follow: `${href.slice(0, place)}/follow/${href.slice(place + GET.length)}`,
  }
}

function randomTag(crypto: Crypto): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16))
  return Array.from(bytes, (byte) => byte.toString(16).padStart(2, '0')).join('')
}

/** A link with one condition more: T = HMAC-SHA256(T, name=value), of which the seal so far is the key. */
export async function narrowed(link: string, name: string, value: string, crypto: Crypto): Promise<string> {
  const place = link.lastIndexOf('seal=')
  const key = await crypto.subtle.importKey(
    'raw',
    unpadded(link.slice(place + 5)),
    { name: 'HMAC', hash: 'SHA-256' },
    false,
    ['sign'],
  )
  const seal = await crypto.subtle.sign('HMAC', key, new TextEncoder().encode(`${name}=${value}`))
  return `${link.slice(0, place)}${name}=${encodeURIComponent(value)}&seal=${base64url(seal)}`
}

function unpadded(text: string): Uint8Array<ArrayBuffer> {
  return Uint8Array.from(atob(text.replaceAll('-', '+').replaceAll('_', '/')), (mark) => mark.charCodeAt(0))
}

function base64url(bytes: ArrayBuffer): string {
  const text = btoa(String.fromCharCode(...new Uint8Array(bytes)))
  return text.replaceAll('+', '-').replaceAll('/', '_').replace(/=+$/, '')
}

/** For what a session gives rather than a link: a link for oneself, for a minute, from the service. */
async function shortLink(url: URL, signal?: AbortSignal): Promise<Prepared> {
  const root = url.href.slice(0, url.href.indexOf(GET))
  const asked: Record<string, string> = {
    address: decodeURIComponent(url.pathname.split(GET)[1] ?? ''),
  }
  for (const name of ['as', 'name', 'version', 'rendition']) {
    const value = url.searchParams.get(name)
    if (value !== null) asked[name] = value
  }
  const reply = await fetch(`${root}/api/short-links`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify(asked),
    ...(signal && { signal }),
  })
  if (!reply.ok) {
    const refused = await refusalOf(reply)
    // Where no such link is made, the file may be had all the same.
    if (['no-short-link', 'missing-keys'].includes(refused.reason)) return { href: url.href, follow: null }
    throw refused
  }
  const made = (await reply.json()) as { target: string }
  return followed(root + made.target)
}

/** What the service says of why not. */
export async function refusalOf(reply: Response): Promise<Refused> {
  try {
    const problem = (await reply.json()) as {
      detail?: string
      title?: string
      reason?: string
    }
    const said = problem.detail ?? problem.title ?? `the service answered ${reply.status}`
    return new Refused(said, problem.reason ?? 'refused', reply.status)
  } catch {
    return new Refused(`the service answered ${reply.status}`, 'refused', reply.status)
  }
}
