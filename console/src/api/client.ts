// Calls of the service's API, typed by its own description; a refusal becomes a Refused.
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
type Rules = Schemas['RulesShape']
type TransferList = Schemas['TransferList']
type Problem = Schemas['Problem']

export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly reason: string,
    detail: string,
    readonly names: string[],
  ) {
    super(detail)
  }
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const headers = new Headers({ accept: 'application/json' })
  if (body !== undefined) headers.set('content-type', 'application/json')
  const response = await fetch(path, {
    method,
    headers,
    body: body === undefined ? null : JSON.stringify(body),
  })
  if (!response.ok) throw await refusal(response)
  return (response.status === 204 ? undefined : await response.json()) as T
}

async function refusal(response: Response): Promise<Refused> {
  const problem = (await response.json().catch(() => ({}))) as Partial<Problem>
  const detail = problem.detail ?? `the service answered ${response.status}`
  return new Refused(response.status, problem.reason ?? 'unknown', detail, problem.names ?? [])
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
  bundle: (files: string[]) => call<Bundle>('POST', '/api/bundles', { files, wait: false }),
  bundleNamed: (id: string) => call<Bundle>('GET', `/api/bundles/${id}`),
  rules: () => call<Rules>('GET', '/api/rules'),
  transfers: () => call<TransferList>('GET', '/api/transfers?limit=100'),
}

function encoded(address: string): string {
  return address.split('/').map(encodeURIComponent).join('/')
}

/** The path that delivers a file, or one version of it. */
export function deliveryPath(address: string, version?: number): string {
  return '/get/' + encoded(address) + (version ? `?version=${version}` : '')
}
