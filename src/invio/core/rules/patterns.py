"""Address patterns: `*` within a segment, `**` across segments.

`charts/**` is everything below the store `charts` and the store's own folder; `charts/*.pdf` the
PDF files at its top. Matching takes at most (length of pattern × length of address) steps,
whatever the pattern: it never backtracks further than to the last star.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from invio.core.addresses import Address


class BadPattern(ValueError):
    """The pattern cannot be read; the message says why."""


@dataclass(frozen=True, slots=True)
class Pattern:
    """`segments` of the pattern's text; a segment `**` stands for any number of segments."""

    text: str
    segments: tuple[str, ...]
    # What everything begins with that a pattern such as `charts/**` matches; None for any other pattern.
    _begin: str | None = field(init=False, compare=False, repr=False)
    _has_stars: bool = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        *folders, last = self.segments
        plain = last == "**" and not any("*" in segment for segment in folders)
        object.__setattr__(self, "_begin", "".join(segment + "/" for segment in folders) if plain else None)
        object.__setattr__(self, "_has_stars", "*" in self.text)

    @property
    def store(self) -> str | None:
        """The one store that the pattern can match, or None when it may match several."""
        first = self.segments[0]
        return None if "*" in first else first

    @property
    def folder(self) -> str | None:
        """The first folder, or file, below the store that it must match; None when it may match several."""
        first = self.segments[1] if len(self.segments) > 1 else "*"
        return None if "*" in first else first

    def matches(self, address: Address) -> bool:
        """Whether a file, or a folder itself, is meant.

        A folder is matched as its text without the last `/`, and by `folder/**`.
        """
        begin = self._begin
        if begin is not None:
            text = f"{address.store}/{address.path}"
            return text.startswith(begin) or text == begin[:-1]
        if not self._has_stars:  # one file, or a folder itself
            return str(address).rstrip("/") == self.text
        return segments_match(self.segments, str(address).rstrip("/").split("/"))

    def reaches_into(self, folder: Address) -> bool:
        """Whether some address below the folder may match."""
        wanted = str(folder).rstrip("/").split("/")
        # From the first `**` on, everything below can be reached.
        for place, segment in enumerate(wanted):
            if place >= len(self.segments):
                return False
            if self.segments[place] == "**":
                return True
            if not segment_matches(self.segments[place], segment):
                return False
        return len(self.segments) > len(wanted)

    def covers(self, folder: Address) -> bool:
        """Whether everything below the folder matches."""
        return self.segments[-1] == "**" and self.matches(folder)


def parse_pattern(text: str) -> Pattern:
    """Reads a pattern.

    Raises:
        BadPattern: it is empty, or has a segment that no address can have.
    """
    segments = text.split("/")
    if not all(segments):
        raise BadPattern("a pattern has no empty segment and no / at its ends; write folder/** for all of a folder")
    for segment in segments:
        if segment in (".", ".."):
            raise BadPattern("a pattern has no '.' or '..' segment")
        if "**" in segment and segment != "**":
            raise BadPattern("** stands for whole segments: it must be alone between two /")
        if re.search("[\x00-\x1f\x7f\\\\]", segment):
            raise BadPattern("a pattern holds no control characters and no backslash")
    if segments == ["**"]:
        return Pattern(text, ("**",))
    if segments[0] == "**":
        raise BadPattern("a pattern begins with a store, or * for any store")
    return Pattern(text, tuple(segments))


def segments_match(pattern: Sequence[str], segments: Sequence[str]) -> bool:
    """Whether segments are what a pattern's mean.

    Greedy matching: on a mismatch, the last `**` takes one segment more.
    """
    at = place = mark = 0
    star = -1
    while place < len(segments):
        if at < len(pattern) and pattern[at] == "**":
            star, mark = at, place
            at += 1
        elif at < len(pattern) and segment_matches(pattern[at], segments[place]):
            at += 1
            place += 1
        elif star >= 0:
            mark += 1
            at, place = star + 1, mark
        else:
            return False
    return all(segment == "**" for segment in pattern[at:])


def segment_matches(pattern: str, segment: str) -> bool:
    """Whether a segment is what a pattern's means.

    `*` within one segment: literal pieces found from left to right, the last at the end.
    """
    if "*" not in pattern:
        return pattern == segment
    first, *middle, last = pattern.split("*")
    if len(segment) < len(first) + len(last) or not segment.startswith(first) or not segment.endswith(last):
        return False
    at, end = len(first), len(segment) - len(last)
    for piece in middle:
        found = segment.find(piece, at, end)
        if found < 0:
            return False
        at = found + len(piece)
    return True
