// The language of the interface: the browser's, or the one that was chosen here.
import { useSyncExternalStore } from 'react'
import { en, type Texts } from './en'

export const LANGUAGES = { en: 'English', de: 'Deutsch' } as const
export type Language = keyof typeof LANGUAGES

// English is there at once; another language is loaded where it is wanted.
const loaded: Partial<Record<Language, Texts>> = { en }
const KEPT = 'invio-language'
const listeners = new Set<() => void>()

/** The first of these languages that there are texts in; English where there is none. */
export function preferred(wanted: readonly (string | null)[]): Language {
  for (const tag of wanted) {
    const language = tag?.toLowerCase().split('-')[0]
    if (language === 'en' || language === 'de') return language
  }
  return 'en'
}

function begun(): Language {
  if (typeof window === 'undefined') return 'en'
  return preferred([window.localStorage.getItem(KEPT), ...navigator.languages])
}

let present = begun()
if (typeof document !== 'undefined') document.documentElement.lang = present

export function language(): Language {
  return present
}

/** Loads the texts of a language; those that cannot be loaded are English instead. */
export async function loadLanguage(wanted: Language): Promise<void> {
  if (wanted === 'de') loaded.de ??= (await import('./de').catch(() => ({ de: en }))).de
}

export async function setLanguage(chosen: Language): Promise<void> {
  await loadLanguage(chosen)
  present = chosen
  window.localStorage.setItem(KEPT, chosen)
  document.documentElement.lang = chosen
  for (const listener of listeners) listener()
}

/** The texts, for what is no component. */
export function texts(): Texts {
  return loaded[present] ?? en
}

function subscribe(listener: () => void): () => void {
  listeners.add(listener)
  return () => listeners.delete(listener)
}

export function useLanguage(): Language {
  return useSyncExternalStore(subscribe, language)
}

/** The texts of the present language; a component that uses them is drawn again when that changes. */
export function useTexts(): Texts {
  return loaded[useLanguage()] ?? en
}
