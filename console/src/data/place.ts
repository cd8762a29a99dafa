/**
 * Where to go back to after signing in: a place of this very service, or nowhere.
 *
 * The address is read as the browser will read it, which drops tabs and line ends and takes `\` for `/`; what comes
 * back is that reading, whole, so that nothing is read a second time in another way.
 */
export function placeHere(given: unknown): string | undefined {
  if (typeof given !== 'string') return undefined
  try {
    const place = new URL(given, window.location.origin)
    const here = place.protocol === window.location.protocol && place.origin === window.location.origin
    return here ? place.href : undefined
  } catch {
    return undefined
  }
}
