"""Which files of a store are hidden from everyone: dot files, and those that match patterns. Pure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from invio.core.rules.patterns import BadPattern, segment_matches, segments_match


@dataclass(frozen=True, slots=True)
class Exclusions:
    """`hidden`: names that begin with a dot. `names` are patterns of one segment, `paths` of several."""

    hidden: bool
    names: tuple[str, ...]
    paths: tuple[tuple[str, ...], ...]

    def excludes(self, path: str) -> bool:
        """Whether a path in the store, or a folder above it, is excluded."""
        segments = path.rstrip("/").split("/")
        if any(self.excludes_name(segment) for segment in segments):
            return True
        return any(
            segments_match(pattern, segments[:count]) for pattern in self.paths for count in range(1, len(segments) + 1)
        )

    def excludes_name(self, name: str) -> bool:
        """Whether every file or folder with this name is excluded."""
        if self.hidden and name.startswith("."):
            return True
        return any(segment_matches(pattern, name) for pattern in self.names)


def read_exclusions(patterns: Sequence[str], *, hidden: bool) -> Exclusions | None:
    """What patterns leave out: `*.tmp` every such name, `drafts/*.pdf` and `**/old/*` paths; None: nothing.

    Raises:
        BadPattern.
    """
    names, paths = [], []
    for text in patterns:
        segments = text.strip("/").split("/")
        if not all(segments) or any("**" in segment and segment != "**" for segment in segments):
            raise BadPattern(f"{text!r}: a pattern has no empty segment, and ** stands alone between two /")
        if len(segments) == 1 and segments != ["**"]:
            names.append(segments[0])
        else:
            paths.append(tuple(segments))
    if not hidden and not names and not paths:
        return None
    return Exclusions(hidden, tuple(names), tuple(paths))
