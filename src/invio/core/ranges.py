"""The Range header, RFC 9110 §14: which bytes of a file are asked for.

What does not parse, and any unit but bytes, is as if it were not there (§14.2); a set that lies
wholly outside the file is unsatisfiable.
"""

from __future__ import annotations

import re

# §14.1.1: int-range = first-pos "-" [ last-pos ]; suffix-range = "-" suffix-length. 18 digits keep
# every number inside 64 bits, and no file is longer.
_SPEC = re.compile(r"(?:([0-9]{1,18})-([0-9]{0,18})|-([0-9]{1,18}))\Z", re.ASCII)


class Unsatisfiable(ValueError):
    """No byte of the file is in the ranges asked for: 416."""


def parse_range(field: str, size: int) -> list[tuple[int, int]] | None:
    """(start, stop) pairs, stop not included, as asked for and cut to the file; None to ignore the field.

    `size` is the file's, in bytes.

    Raises:
        Unsatisfiable: the set is well formed, and no range of it touches the file.
    """
    unit, equals, text = field.partition("=")
    if not equals or unit.strip().lower() != "bytes":
        return None
    wanted = []
    specs = [spec.strip(" \t") for spec in text.split(",")]
    specs = [spec for spec in specs if spec]  # §5.6.1.2: empty list elements are skipped
    if not specs:
        return None
    for spec in specs:
        match = _SPEC.match(spec)
        if not match:
            return None
        first, last, suffix = match.groups()
        if suffix is not None:
            start, stop = max(0, size - int(suffix)), size
        else:
            start = int(first)
            if last and int(last) < start:
                return None  # §14.1.1: an int-range with last < first makes the set invalid
            stop = min(int(last) + 1, size) if last else size
        if start < stop:
            wanted.append((start, stop))
    if not wanted:
        raise Unsatisfiable(field)
    return wanted
