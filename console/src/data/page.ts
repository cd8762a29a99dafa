// What every page does: it has a title, and takes the focus when one comes to it from another.
import { useEffect, useRef } from 'react'

let first = true

/** Names the page, and gives back what to put on its heading. */
export function usePage(title: string) {
  const heading = useRef<HTMLHeadingElement>(null)
  useEffect(() => {
    document.title = `${title} · Invio`
    // The first page is where the browser itself begins.
    if (!first) heading.current?.focus()
    first = false
  }, [title])
  return { ref: heading, tabIndex: -1 }
}
