import { shown } from '../data/shown'

/** A name or a text that somebody else wrote: it stands by itself, and turns nothing round. */
export function SafeText({ children }: { children: string }) {
  return <bdi>{shown(children)}</bdi>
}
