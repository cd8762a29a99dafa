// Calls of the service's API, typed by its own description: one that changes breaks the build.
import createClient from 'openapi-fetch'
import { refusalOf, Unreachable } from './problems'
import { root } from './root'
import type { components, paths } from './schema.gen'
import { texts } from '../texts'

type Schemas = components['schemas']
export type Me = Schemas['Me']
export type SignIn = Schemas['SignIn']
export type FileEntry = Schemas['FileShape']
export type Version = Schemas['VersionShape']
export type Bundle = Schemas['BundleShape']
export type Transfer = Schemas['TransferShape']
export type TransferRequest = Schemas['TransferRequest']
export type LinkFacts = Schemas['LinkFacts']
export type LinkAsk = Partial<Schemas['LinkAsk']> & { address: string }
export type Quota = Schemas['QuotaShape']
export type Recipient = Schemas['RecipientShape']
export type Rule = Schemas['RuleShape']
export type Action = Schemas['DecisionShape']['action']

/** Slashes part the segments of an address, and stay. */
export function encoded(address: string): string {
  return address.split('/').map(encodeURIComponent).join('/')
}

export const http = createClient<paths>({
  baseUrl: root,
  headers: { accept: 'application/json' },
  pathSerializer: (path, given) =>
    path.replace(/\{(\w+)\}/g, (_, name: string) => encoded(String(given[name]))),
})

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** What a call is answered with. Throws Refused where the service says no, Unreachable where it does not answer. */
export async function answered<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch (error) {
    // What is no JSON comes from somebody in between.
    throw new Unreachable(error instanceof SyntaxError ? texts().errors.stranger : texts().errors.silent)
  }
  if (!answer.response.ok) throw refusalOf(answer.response, answer.error)
  return answer.data as T
}

/** Where transfers are told as they go. */
export const streamPath = root + '/api/transfers/stream'

/** The page of a link, for a person. */
export function pickupPath(link: string): string {
  return link.replace('/get/', '/pickup/')
}

/** The path that delivers a file, or one version of it. */
export function deliveryPath(address: string, version?: number | null): string {
  return root + '/get/' + encoded(address) + (version ? `?version=${version}` : '')
}
