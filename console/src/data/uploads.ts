// Files that are put into a folder: one after the other, each with its progress, to be cancelled and tried again.
import { useSyncExternalStore } from 'react'
import type { QueryClient } from '@tanstack/react-query'
import { encoded, type FileEntry } from '../api/client'
import { Refused, refusalOf } from '../api/problems'
import { root } from '../api/root'
import { texts } from '../texts'

export interface Upload {
  readonly id: number
  readonly address: string
  readonly file: File
  readonly state: 'waiting' | 'sending' | 'done' | 'cancelled' | 'failed'
  readonly sent: number
  readonly version: number | null
  readonly error: Error | null
}

const LOOKS_EVERY = 1000 // milliseconds: a list of many files takes longer than one small file

let uploads: readonly Upload[] = []
let count = 0
let running: { id: number; request: XMLHttpRequest } | null = null
let queries: QueryClient | null = null
let looked: ReturnType<typeof setTimeout> | null = null
const replaced = new Set<number>()
const listeners = new Set<() => void>()

function become(next: readonly Upload[]): void {
  uploads = next
  for (const listener of listeners) listener()
}

function change(id: number, what: Partial<Upload>): void {
  become(uploads.map((upload) => (upload.id === id ? { ...upload, ...what } : upload)))
}

/** Has files be put into a folder; what is there already is left alone, and said. */
export function put(folder: string, files: readonly File[], client: QueryClient): void {
  queries = client
  const added = files.map((file): Upload => {
    const id = ++count
    // Some systems write one letter in two characters; addresses have one form of it.
    const address = folder + file.name.normalize('NFC')
    return { id, address, file, state: 'waiting', sent: 0, version: null, error: null }
  })
  become([...uploads, ...added])
  next()
}

/** Whether an upload has not come to its end. */
export function runs(upload: Upload): boolean {
  return upload.state === 'waiting' || upload.state === 'sending'
}

/** Cancels what waits, and what is being sent. */
export function cancelAll(): void {
  become(uploads.map((upload) => (upload.state === 'waiting' ? { ...upload, state: 'cancelled' } : upload)))
  running?.request.abort()
}

export function cancel(id: number): void {
  if (running?.id === id) running.request.abort()
  else change(id, { state: 'cancelled' })
}

/** Tries one again; `replace` also where there is such a file. */
export function again(id: number, replace: boolean): void {
  if (replace) replaced.add(id)
  change(id, { state: 'waiting', sent: 0, error: null })
  next()
}

export function clearEnded(): void {
  become(uploads.filter(runs))
}

function next(): void {
  const upload = uploads.find((one) => one.state === 'waiting')
  if (running || !upload) return
  const request = new XMLHttpRequest()
  running = { id: upload.id, request }
  const ended = (what: Partial<Upload>) => {
    running = null
    change(upload.id, what)
    next()
    look()
  }
  request.open('PUT', `${root}/api/files/${encoded(upload.address)}`)
  request.setRequestHeader('accept', 'application/json')
  if (!replaced.has(upload.id)) request.setRequestHeader('if-none-match', '*')
  request.upload.onprogress = (event) => change(upload.id, { sent: event.loaded })
  request.onabort = () => ended({ state: 'cancelled' })
  request.onerror = () => ended({ state: 'failed', error: new Error(texts().put.lost) })
  request.onload = () => ended(outcome(request))
  change(upload.id, { state: 'sending' })
  request.send(upload.file)
}

/** Has the folder be listed anew: at once when all have ended, meanwhile once in a while. */
function look(): void {
  if (running && looked) return
  if (looked) clearTimeout(looked)
  const list = () => {
    looked = null
    void queries?.invalidateQueries({ queryKey: ['files'] })
  }
  if (running) looked = setTimeout(list, LOOKS_EVERY)
  else list()
}

function outcome(request: XMLHttpRequest): Partial<Upload> {
  let body: unknown = null
  try {
    body = JSON.parse(request.responseText)
  } catch {
    // It is said below that something else answered.
  }
  if (request.status < 300) return { state: 'done', version: (body as FileEntry | null)?.version ?? null }
  const response = new Response(null, { status: request.status })
  return { state: 'failed', error: refusalOf(response, body) }
}

/** Whether an upload failed because there is such a file. */
export function isThere(upload: Upload): boolean {
  return upload.error instanceof Refused && upload.error.reason === 'precondition'
}

export function useUploads(): readonly Upload[] {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener)
      return () => listeners.delete(listener)
    },
    () => uploads,
  )
}
