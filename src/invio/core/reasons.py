"""Every reason for a refusal: its word, its status, and what a person should do about it.

One table serves the HTTP answers, the pages for people, the command line and the docs. The words
of the sealed-link format stand first, in the order in which that format checks them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Reason:
    """Why something is refused: a word for programs, an HTTP status, and what a person reads and can do."""

    word: str
    status: int
    title: str
    advice: str


_TABLE = [
    Reason(
        "malformed",
        400,
        "The link or address is not well formed",
        "Copy the whole address again, or ask whoever gave it to you for a new one.",
    ),
    Reason(
        "unknown-key",
        403,
        "The link was sealed with a key that is not in use",
        "Ask whoever gave you the link for a new one.",
    ),
    Reason("bad-seal", 403, "The link was altered", "Use the link exactly as you received it, or ask for a new one."),
    Reason("out-of-scope", 403, "The link does not open this file", "Ask for a link that includes this file."),
    Reason("not-yet", 403, "The link is not valid yet", "Use it after the time named below."),
    Reason("expired", 410, "The link has expired", "Ask whoever gave you the link for a new one."),
    Reason(
        "wrong-recipient", 403, "The link is for somebody else", "Sign in as the person that the link was made for."
    ),
    Reason(
        "wrong-network", 403, "The link is not valid from this network", "Use the network that the link was made for."
    ),
    Reason("wrong-agent", 403, "The link is not valid for this program", "Use the program that the link was made for."),
    Reason("revoked", 410, "The link was revoked", "Ask whoever gave you the link for a new one."),
    Reason("used-up", 410, "The link has no uses left", "Ask whoever gave you the link for a new one."),
    Reason("sign-in", 401, "Sign in to get this", "Sign in, or send an access token."),
    Reason("bad-token", 401, "The access token is not valid", "Sign in again, or use another token."),
    Reason("not-allowed", 403, "You do not have access to this", "Ask the operator of this service for access."),
    Reason("cross-site", 403, "The request came from another site", "Use this service's own pages."),
    Reason("missing", 404, "There is no such file here", "Check the address."),
    Reason("wrong-method", 405, "This method is not supported here", "Use a method that the Allow field lists."),
    Reason(
        "precondition",
        412,
        "The file is not the one that the request expects",
        "Get the file's facts again and repeat the request.",
    ),
    Reason("bad-request", 400, "The request is not well formed", "Fix the problem described below."),
    Reason("too-slow", 408, "The request did not arrive in time", "Send it again, without long pauses."),
    Reason("long-head", 431, "The request's header section is too long", "Send fewer or shorter header fields."),
    Reason("no-selection", 400, "Nothing was selected", "Select at least one file or folder."),
    Reason("bad-selection", 403, "Some of the selected files cannot be bundled", "Leave out the files named below."),
    Reason("too-large", 413, "The request or the selection is too large", "Send less, or select fewer files."),
    Reason("file-too-large", 413, "The file is too large", "Upload a smaller file, or ask the operator."),
    Reason(
        "in-the-way",
        409,
        "A file is where a folder would have to be, or the other way round",
        "Choose another address.",
    ),
    Reason("no-space", 507, "There is not enough space for the file", "Ask the operator."),
    Reason("not-arrived", 409, "The file has not arrived whole", "Ask again once the transfer is complete."),
    Reason("range", 416, "The range lies outside the file", "Ask for a range inside the file."),
    Reason("changed", 503, "The file changed while it was being read", "Try again."),
    Reason("not-made", 503, "The file could not be made", "Try again in a while, or ask the operator."),
    Reason(
        "not-an-image",
        422,
        "There is no rendition of this file",
        "Ask for the file itself, or for another image.",
    ),
    Reason("no-short-link", 409, "There is no short link for this file", "Download it by its own address."),
    Reason("quota", 429, "You have reached a quota", "Try again after the time named below."),
    Reason("slow-down", 429, "Too many sign-ins from here have failed", "Wait a while, then try again."),
    Reason(
        "too-many",
        429,
        "You have too many downloads under way",
        "Wait for one of them to finish, then try again.",
    ),
    Reason("busy", 503, "The service is busy", "Try again in a few seconds."),
    Reason("unreachable", 502, "The system that stores the file does not answer", "Try again in a while."),
    Reason("no-answer", 504, "The system that stores the file takes too long", "Try again in a while."),
    Reason("failed", 500, "The service failed", "Try again in a while, or tell the operator."),
    Reason("unavailable", 503, "The service cannot record the delivery", "Try again in a while."),
]

REASONS: dict[str, Reason] = {reason.word: reason for reason in _TABLE}


class Refusal(Exception):
    """The service says no. Carries the reason and a detail that may be shown to the caller.

    `allow` names the methods that a 405 offers; `names` the addresses that a refusal is about; `retry_after` is in
    seconds, for a 429 or 503. What only some refusals say has its default here and is set by their own classes.
    """

    size: int | None = None
    text = link = ""
    reasons: tuple[Any, ...] = ()
    decided_by: str | None = None

    def __init__(
        self, word: str, detail: str, *, allow: str = "", names: tuple[str, ...] = (), retry_after: int = 1
    ) -> None:
        super().__init__(detail)
        self.reason = REASONS[word]
        self.detail = detail
        self.allow = allow
        self.names = names
        self.retry_after = retry_after


class RangeRefused(Refusal):
    """None of the ranges that were asked for is in the file, whose `size` in bytes a 416 tells."""

    def __init__(self, detail: str, size: int) -> None:
        super().__init__("range", detail)
        self.size = size


class QuotaRefused(Refusal):
    """A quota is used up; `text` and `link` are the operator's own, for whoever is refused."""

    def __init__(self, detail: str, *, text: str, link: str, retry_after: int) -> None:
        super().__init__("quota", detail, retry_after=retry_after)
        self.text = text
        self.link = link


class RulesRefused(Refusal):
    """The rules say no: `decided_by` tells the history which, and `reasons` somebody who may know what each said."""

    def __init__(self, word: str, detail: str, *, decided_by: str | None, reasons: tuple[Any, ...] = ()) -> None:
        super().__init__(word, detail)
        self.decided_by = decided_by
        self.reasons = reasons
