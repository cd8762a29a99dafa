// Calls of the service's API, typed by its own description; a refusal becomes a Refused.
import { refusalOf, Unreachable } from './problems'
import { root } from './root'
import type { components } from './schema.gen'

type Schemas = components['schemas']
export type Me = Schemas['Me']
export type SignIn = Schemas['SignIn']
export type FileEntry = Schemas['FileShape']
export type Version = Schemas['VersionShape']
export type VersionList = Schemas['VersionList']
export type Listing = Schemas['Listing']
export type Bundle = Schemas['BundleShape']
export type Transfer = Schemas['TransferShape']
export type LinkFacts = Schemas['LinkFacts']
export type LinkAsk = Partial<Schemas['LinkAsk']> & { address: string }
type LinkList = Schemas['LinkList']
type LinkShape = Schemas['LinkShape']
type Rules = Schemas['RulesShape']
type TransferList = Schemas['TransferList']

/** How many transfers are shown. */
export const SHOWN = 200

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const headers = new Headers({ accept: 'application/json' })
  if (body !== undefined) headers.set('content-type', 'application/json')
  const response = await fetch(root + path, {
    method,
    headers,
    body: body === undefined ? null : JSON.stringify(body),
  }).catch(() => {
    throw new Unreachable('The service does not answer. It is asked again.')
  })
  if (!response.ok) throw await refusalOf(response)
  if (response.status === 204) return undefined as T
  return (await response.json().catch(() => {
    throw new Unreachable('Something other than the service answered. It is asked again.')
  })) as T
}

export const api = {
  me: () => call<Me>('GET', '/api/sessions/current'),
  signIn: (given: SignIn) => call<Me>('POST', '/api/sessions', given),
  signOut: () => call<undefined>('DELETE', '/api/sessions/current'),
  files: (folder: string | null, after: string | null) => {
    const query = new URLSearchParams()
    if (folder) query.set('in', folder)
    if (after) query.set('after', after)
    return call<Listing>('GET', `/api/files?${query}`)
  },
  versions: (address: string, before: number | null) => {
    const query = new URLSearchParams()
    if (before) query.set('before', String(before))
    return call<VersionList>('GET', `/api/versions/${encoded(address)}?${query}`)
  },
  bundle: (files: string[], leaveOut: boolean) =>
    call<Bundle>('POST', '/api/bundles', {
      files,
      wait: false,
      on_problem: leaveOut ? 'leave-out' : 'refuse',
    }),
  bundleNamed: (id: string) => call<Bundle>('GET', `/api/bundles/${id}`),
  links: (before: number | null) =>
    call<LinkList>('GET', `/api/links?limit=100${before ? `&before=${before}` : ''}`),
  makeLink: (asked: LinkAsk) => call<LinkShape>('POST', '/api/links', asked),
  revokeLink: (id: string) => call<LinkFacts>('DELETE', `/api/links/${encodeURIComponent(id)}`),
  rules: () => call<Rules>('GET', '/api/rules'),
  transfers: () => call<TransferList>('GET', `/api/transfers?limit=${SHOWN}`),
}

function encoded(address: string): string {
  return address.split('/').map(encodeURIComponent).join('/')
}

/** Where transfers are told as they go. */
export const streamPath = root + '/api/transfers/stream'

/** The page of a link, for a person. */
export function pickupPath(link: string): string {
  return link.replace('/get/', '/pickup/')
}

/** The path that delivers a file, or one version of it. */
export function deliveryPath(address: string, version?: number): string {
  return root + '/get/' + encoded(address) + (version ? `?version=${version}` : '')
}
