"""Versions of a file: what is known of each, and when a further one may be put beside them.

Pure. A version is one immutable content, numbered from 1; a number is never given twice.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from invio.core.addresses import Address
from invio.core.files import FileFacts
from invio.core.http.digests import content_tag
from invio.core.http.preconditions import Outcome, evaluate
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal


class PathConflict(Exception):
    """There is a file where a folder would have to be, or a folder where the file would be."""


@dataclass(frozen=True, slots=True)
class Arrived:
    """A content that has arrived whole: `name` is what it is kept under, `size` in bytes.

    `description` is a short text on what it is about.
    """

    name: str
    size: int
    sha256: bytes
    crc: int
    media_type: str | None = None
    description: str | None = None


@dataclass(frozen=True, slots=True)
class Version:
    """One version of the file at `path` of a store. `at` is when it was put, Unix seconds, and `by` by whom."""

    path: str
    number: int
    content: Arrived
    at: float
    by: str | None = None
    current: bool = True

    @property
    def tag(self) -> str:
        """What changes with the content, and is the same wherever the same content is."""
        return version_tag(self.content.sha256)

    def facts(self, store: str) -> FileFacts:
        """The facts of a file of this store that has this content."""
        content = self.content
        return FileFacts(
            Address(store, self.path), content.size, self.at, self.tag, content.media_type, self.number, self.current,
            description=content.description,
        )  # fmt: skip


def version_tag(sha256: bytes) -> str:
    """The entity tag of a version, by the SHA-256 of its content: the same content has the same one."""
    return "v" + content_tag(sha256)


@dataclass(frozen=True, slots=True)
class Putting:
    """Who puts or removes a file, as what, and what they expect to be there: the request's own preconditions.

    `known` gives the SHA-256 of the content with a tag, if it is known: it has another tag by that.
    `media_type` is what the file's name does not tell, `description` a short text on what it is about.
    """

    head: RequestHead
    known: Callable[[str], bytes | None]
    by: str | None = None
    media_type: str | None = None
    description: str | None = None

    def check(self, address: Address, facts: FileFacts | None) -> None:
        """Looks at what is there now; None when there is no such file.

        Raises:
            Refusal: `precondition`, RFC 9110 §13.1.1, §13.1.2 and §13.1.4.
        """
        head = self.head
        if facts is None or facts.tag is None:
            if head.get(b"if-match") is not None:
                raise Refusal("precondition", f"there is no file {address}")
            return
        sha256 = self.known(facts.tag)
        tags = (facts.tag,) if sha256 is None else (facts.tag, content_tag(sha256))
        modified = None if facts.modified is None else int(facts.modified)
        outcomes = [evaluate(head, one, modified) for one in tags]
        if_none = head.get(b"if-none-match") is not None
        # Any of its tags names the content: one that matches is enough, for good or ill.
        fails = any if if_none else all
        if fails(outcome is Outcome.FAILED for outcome in outcomes):
            said = "is there already" if if_none else "is not, or no longer, what the request expects"
            raise Refusal("precondition", f"{address} {said}")
