"""The Range header, RFC 9110 §14: which bytes of a file are asked for.

A field that does not parse, a unit other than bytes, and a set of more than `RANGES` ranges are ignored (§14.2); a set
that lies wholly outside the file is unsatisfiable. Ranges that overlap or touch are merged, so that no byte of a file
is ever sent twice in one answer.
"""

from __future__ import annotations

import re

# How many ranges one request may name. §14.2 leaves it to the server what to do with "many small
# ranges"; a person's program that resumes or looks into an archive needs a handful.
RANGES = 64

# §14.1.1: int-range = first-pos "-" [ last-pos ]; suffix-range = "-" suffix-length. A position may have any
# number of digits (one far behind the end is unsatisfiable, not malformed); 64 keep the arithmetic short.
_ONE = re.compile(r"bytes=([0-9]{1,18})-([0-9]{1,18})\Z", re.ASCII)
_SPEC = re.compile(r"(?:([0-9]{1,64})-([0-9]{0,64})|-([0-9]{1,64}))\Z", re.ASCII)


class Unsatisfiable(ValueError):
    """No byte of the file is in the ranges asked for: 416."""


def parse_range(field: str, size: int) -> list[tuple[int, int]] | None:
    """(start, stop) pairs, stop not included, cut to the file and merged; None to ignore the field.

    `size` is the file's, in bytes. The order is that of the request (§15.3.7.2); a merged range
    stands where its first member stood.

    Raises:
        Unsatisfiable: the set is well formed, and no range of it touches the file.
    """
    one = _ONE.match(field)
    if one:  # what nearly all requests say
        begin, end = int(one[1]), int(one[2])
        if begin <= end and begin < size:
            return [(begin, min(end + 1, size))]
    unit, equals, text = field.partition("=")
    if not equals or unit.strip().lower() != "bytes":
        return None
    specs = [spec.strip(" \t") for spec in text.split(",")]
    specs = [spec for spec in specs if spec]  # §5.6.1.2: empty list elements are skipped
    if not specs or len(specs) > RANGES:
        return None
    wanted = []
    suffix_of_nothing = False
    for spec in specs:
        match = _SPEC.match(spec)
        if not match:
            return None
        first, last, suffix = match.groups()
        if suffix is not None:
            start, stop = max(0, size - int(suffix)), size
            suffix_of_nothing = suffix_of_nothing or (not size and int(suffix) > 0)
        else:
            start = int(first)
            if last and int(last) < start:
                return None  # §14.1.1: an int-range with last < first makes the set invalid
            stop = min(int(last) + 1, size) if last else size
        if start < stop:
            wanted.append((start, stop))
    if wanted:
        return merged(wanted)
    if suffix_of_nothing:
        # §14.1.2: a suffix of an empty file is satisfiable, and is the whole of it; there is no
        # Content-Range that could say so.
        return None
    raise Unsatisfiable(field)


def merged(ranges: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """The ranges with those that overlap or touch made one, each where its first member stood."""
    if len(ranges) == 1:
        return ranges
    groups: list[tuple[int, int, int]] = []  # start, stop, the place of the first member
    for place, (start, stop) in sorted(enumerate(ranges), key=lambda item: item[1]):
        if groups and start <= groups[-1][1]:
            begin, end, first = groups[-1]
            groups[-1] = (begin, max(end, stop), min(first, place))
        else:
            groups.append((start, stop, place))
    return [(start, stop) for start, stop, _ in sorted(groups, key=lambda group: group[2])]
