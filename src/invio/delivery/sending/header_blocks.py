"""Header blocks: the fields of a reply as they are sent, put together once for all answers that have the same."""

from __future__ import annotations

from invio.core.memory import Memory

# Header blocks by the identity of the list that they were made from, which is kept with them so that it
# stays the same: a reply's headers are never changed, and many answers have the same ones.
_BLOCKS: Memory[int, tuple[object, bytes, int | None]] = Memory(2048)
_LINE = b": ".join


def header_block(headers: list[tuple[bytes, bytes]], *, keeps: bool) -> tuple[bytes, int | None]:
    """Header fields as they are sent, and the length that they announce; `keeps`: others will have the same."""
    kept = _BLOCKS.get(id(headers))
    if kept is not None and kept[0] is headers:
        return kept[1], kept[2]
    block = b"\r\n".join(map(_LINE, headers))
    # Whatever the values came from, none of them may end its line and begin another.
    ends = max(0, len(headers) - 1)
    if block.count(b"\n") != ends or block.count(b"\r") != ends:
        raise RuntimeError("a header holds a line end")
    length = None
    for name, value in reversed(headers):  # mostly the last
        if name == b"content-length":
            length = int(value)
            break
    if keeps:
        _BLOCKS.keep(id(headers), (headers, block, length))
    return block, length
