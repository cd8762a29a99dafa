// Parts of a file on a strip of so many places.
/** Where a part begins and where it ends. */
export type Span = readonly number[]

/** The places of a strip that hold something of the spans of a file of `size` bytes, put together where they touch. */
export function merged(spans: readonly Span[], size: number, places: number): [number, number][] {
  const strip: [number, number][] = []
  if (size <= 0) return strip
  for (const [start = 0, stop = 0] of [...spans].sort(([a = 0], [b = 0]) => a - b)) {
    if (stop <= start) continue
    const first = Math.floor((start / size) * places)
    // What is there is seen, however little it is; and all of it is only seen where it is all.
    const last = Math.max(first + 1, stop >= size ? places : Math.floor((stop / size) * places))
    const before = strip.at(-1)
    if (before && first <= before[1]) before[1] = Math.max(before[1], last)
    else strip.push([first, last])
  }
  return strip
}
