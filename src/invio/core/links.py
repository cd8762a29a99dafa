"""Sealed links, format `invio-link-1`: an address with conditions and a seal.

The seal is a chain of HMACs: each condition is authenticated with the output of the step before
it, so that whoever holds a link can append a condition and nobody can take one away. Parsing is
strict and comes first, the seal second, and only then is anything said about what the link holds.
Root parameters and conditions are two tables; everything else reads them.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import ipaddress
import re
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from urllib.parse import quote, urlsplit

from invio.core.addresses import Address, BadAddress, parse_address, parse_file_address, percent_decoded, quoted
from invio.core.reasons import Refusal

FORMAT = b"invio-link-1"
QUERY_LIMIT = 4096  # characters, still encoded
CONDITION_LIMIT = 32
VALUE_LIMIT = 200  # characters, decoded

_NUMBER = re.compile(r"(?:0|[1-9][0-9]{0,14})\Z", re.ASCII)
_IDENT = re.compile(r"[A-Za-z0-9._@-]{1,64}\Z", re.ASCII)
_KEY_ID = re.compile(r"[A-Za-z0-9_-]{1,32}\Z", re.ASCII)
_AGENT = re.compile(r"[A-Za-z0-9_-]{22}\Z", re.ASCII)
_SEAL = re.compile(r"[A-Za-z0-9_-]{43}\Z", re.ASCII)
_CONTROL = re.compile("[\x00-\x1f\x7f-\x9f\ud800-\udfff]")
# What stays as it is in a query's value: readable links, and nothing that ends a pair or a query.
_QUERY_SAFE = "/-._~:@,*"


@dataclass(frozen=True)
class SealedLink:
    """A link, decoded. `root` and `conditions` are (name, value) pairs in the link's own order."""

    address: Address
    root: tuple[tuple[str, str], ...]
    key: str
    conditions: tuple[tuple[str, str], ...]
    seal: str

    def says(self, name: str) -> str | None:
        """The value of a root parameter, or None."""
        for key, value in self.root:
            if key == name:
                return value
        return None

    def conditions_named(self, name: str) -> list[str]:
        return [value for key, value in self.conditions if key == name]

    def __hash__(self) -> int:
        # Links that are alike have the same seal; equality still looks at every field.
        return hash(self.seal)

    @property
    def scope(self) -> str:
        return self.says("in") or str(self.address)

    def _least(self, name: str) -> int | None:
        return min(map(int, self.conditions_named(name)), default=None)

    @cached_property
    def rate(self) -> int | None:
        """The least of the `rate` conditions, bytes a second."""
        return self._least("rate")

    @cached_property
    def expires(self) -> int | None:
        """The earliest `until`, Unix seconds; None for a link without an end."""
        return self._least("until")

    @cached_property
    def uses(self) -> int | None:
        """How many downloads the link's id allows; None for any number."""
        return self._least("uses")

    @cached_property
    def tag(self) -> str | None:
        """What names the transfer, to follow its progress."""
        return next(iter(self.conditions_named("tag")), None)

    @cached_property
    def via(self) -> str | None:
        """Who passed the link on, one label after the other."""
        return " / ".join(self.conditions_named("via")) or None


@dataclass(frozen=True, slots=True)
class Asked:
    """What a link's conditions are held against.

    `at` is Unix seconds; `ip` and `agent` are the asking side's address and User-Agent; `caller`
    is the recipient who is signed in. `revoked` and `used` (downloads counted for the link's id)
    come from the records; without them a link is taken to be unused. `grace` (seconds) is added
    to each `until`: only for a download that had begun before it.
    """

    at: float
    ip: str | None = None
    agent: str = ""
    caller: str | None = None
    revoked: bool = False
    used: int = 0
    grace: int = 0


class LinkRefused(Refusal):
    """A link that must not be honoured; `reason.word` is a word of the format's table."""


def _malformed(detail: str) -> LinkRefused:
    return LinkRefused("malformed", detail)


def _whole(least: int) -> Callable[[str], bool]:
    return lambda value: _NUMBER.match(value) is not None and int(value) >= least


def _reads(parse: Callable[[str], object]) -> Callable[[str], bool]:
    def readable(value: str) -> bool:
        try:
            parse(value)
        except ValueError:
            return False
        return True

    return readable


def _is_folder(value: str) -> bool:
    return _reads(parse_address)(value) and parse_address(value).folder


def _is_network(value: str) -> bool:
    if "/" not in value or "%" in value:
        return False
    return _reads(lambda text: ipaddress.ip_network(text, strict=True))(value)


def _inside(value: str, ip: str | None) -> bool:
    if ip is None:
        return False
    try:
        address = ipaddress.ip_address(ip)
    except ValueError:
        return False
    # A dual-stack socket shows a v4 caller as ::ffff:a.b.c.d; it is a v4 caller all the same.
    if isinstance(address, ipaddress.IPv6Address) and address.ipv4_mapped:
        address = address.ipv4_mapped
    return address in ipaddress.ip_network(value)


def agent_mark(agent: str) -> str:
    """base64url(SHA-256(User-Agent)[:16]), 22 characters: the value of an `agent` condition."""
    return _base64url(hashlib.sha256(agent.encode("utf-8", "surrogateescape")).digest()[:16])


def _any_text(value: str) -> bool:
    return True


def _always(link: SealedLink, value: str, asked: Asked) -> bool:
    return True


# name → is the value well formed? In the order in which root parameters must stand.
ROOT: dict[str, Callable[[str], bool]] = {
    "in": _is_folder,
    "version": _whole(1),
    "as": lambda value: value in ("attachment", "inline"),
    "name": _any_text,
    "id": lambda value: _IDENT.match(value) is not None,
    "to": lambda value: _IDENT.match(value) is not None,
}
_ROOT_ORDER = list(ROOT)


@dataclass(frozen=True, slots=True)
class _Condition:
    formed: Callable[[str], bool]
    holds: Callable[[SealedLink, str, Asked], bool]
    reason: str


_CONDITIONS: dict[str, _Condition] = {
    "only": _Condition(
        _reads(parse_address), lambda link, value, asked: link.address.within(parse_address(value)), "out-of-scope"
    ),
    "after": _Condition(_whole(0), lambda link, value, asked: asked.at >= int(value), "not-yet"),
    "until": _Condition(_whole(0), lambda link, value, asked: asked.at < int(value) + asked.grace, "expired"),
    "who": _Condition(
        lambda value: _IDENT.match(value) is not None,
        lambda link, value, asked: asked.caller == value,
        "wrong-recipient",
    ),
    "net": _Condition(_is_network, lambda link, value, asked: _inside(value, asked.ip), "wrong-network"),
    "agent": _Condition(
        lambda value: _AGENT.match(value) is not None,
        lambda link, value, asked: hmac.compare_digest(agent_mark(asked.agent), value),
        "wrong-agent",
    ),
    "uses": _Condition(_whole(1), lambda link, value, asked: asked.used < int(value), "used-up"),
    "rate": _Condition(_whole(1), _always, ""),
    "via": _Condition(_any_text, _always, ""),
    "tag": _Condition(lambda value: _IDENT.match(value) is not None, _always, ""),
}
CONDITION_NAMES = tuple(_CONDITIONS)

# The order of the format's table of reasons, after the seal and the scope were found good.
_ORDER = ("out-of-scope", "not-yet", "expired", "wrong-recipient", "wrong-network", "wrong-agent", "revoked", "used-up")

_SAYS = {
    "out-of-scope": "the link does not open {address}",
    "not-yet": "the link holds from {moment} on",
    "expired": "the link held until {moment}",
    "wrong-recipient": "the link holds only for the recipient it names, signed in",
    "wrong-network": "the link does not hold from your network address",
    "wrong-agent": "the link does not hold for your User-Agent",
    "used-up": "the link allows {value} downloads, and they were made",
}


_MARKS = re.compile(r"(?:^|&)(?:key|seal)(?:=|&|$)")


def is_sealed(query: str) -> bool:
    """Whether a query is meant to be a sealed link's, well formed or not."""
    # A well-formed link ends in its seal; what is not one may have its marks anywhere.
    return "&seal=" in query or _MARKS.search(query) is not None


def parse_query(query: str) -> list[tuple[str, str]]:
    """Splits and decodes a query as the format says; `+` is a plus sign.

    Raises:
        LinkRefused: `malformed`.
    """
    if len(query) > QUERY_LIMIT:
        raise _malformed(f"the query is longer than {QUERY_LIMIT} characters")
    pairs = []
    for pair in query.split("&"):
        name, equals, value = pair.partition("=")
        if not equals:
            raise _malformed(f"{pair[:40]!r} is not name=value")
        try:
            pairs.append((percent_decoded(name), percent_decoded(value)))
        except BadAddress as error:
            raise _malformed(f"in the query: {error}") from None
    return pairs


def _check_value(name: str, value: str, formed: Callable[[str], bool]) -> None:
    if not 1 <= len(value) <= VALUE_LIMIT:
        raise _malformed(f"{name} has a value of 1 to {VALUE_LIMIT} characters")
    if _CONTROL.search(value):
        raise _malformed(f"{name} holds a control character")
    if not formed(value):
        raise _malformed(f"{name}={value!r} is not a value that {name} can have")


def _check_parts(root: Sequence[tuple[str, str]], key: str, conditions: Sequence[tuple[str, str]]) -> None:
    """Refuses root parameters and conditions that no link may have."""
    reached = -1
    for name, value in root:
        if name not in ROOT:
            raise _malformed(f"{name!r} does not belong before key")
        place = _ROOT_ORDER.index(name)
        if place <= reached:
            raise _malformed(f"{name} comes twice or out of order")
        reached = place
        _check_value(name, value, ROOT[name])
    if not _KEY_ID.match(key):
        raise _malformed("key is 1 to 32 characters of A-Z a-z 0-9 _ -")
    if len(conditions) > CONDITION_LIMIT:
        raise _malformed(f"a link has at most {CONDITION_LIMIT} conditions")
    for name, value in conditions:
        if name not in _CONDITIONS:
            raise _malformed(f"{name!r} is no condition; conditions are {', '.join(CONDITION_NAMES)}")
        _check_value(name, value, _CONDITIONS[name].formed)
    names = [name for name, _ in conditions]
    if names.count("tag") > 1:
        raise _malformed("tag comes at most once")
    if "uses" in names and not any(name == "id" for name, _ in root):
        raise _malformed("a link with uses needs an id, set when it is made")


def _canonical(seal: str) -> bool:
    return _SEAL.match(seal) is not None and _base64url(_from_base64url(seal)) == seal


@lru_cache(maxsize=4096)
def parse_link(path: str | bytes, query: str) -> SealedLink:
    """Reads a link from the still encoded path after `/get/` and the query after `?`.

    Raises:
        LinkRefused: `malformed`.
    """
    try:
        address = parse_file_address(percent_decoded(path))
    except BadAddress as error:
        raise _malformed(str(error)) from None
    pairs = parse_query(query)
    names = [name for name, _ in pairs]
    if names.count("key") != 1:
        raise _malformed("a link has exactly one key")
    if names.count("seal") != 1 or names[-1] != "seal":
        raise _malformed("a link has exactly one seal, and it comes last")
    at = names.index("key")
    root, key, conditions, seal = pairs[:at], pairs[at][1], pairs[at + 1 : -1], pairs[-1][1]
    _check_parts(root, key, conditions)
    if not _canonical(seal):
        raise _malformed("a seal is 43 characters of base64url, without padding")
    return SealedLink(address, tuple(root), key, tuple(conditions), seal)


def parse_url(url: str) -> SealedLink:
    """Reads a link from a whole URL, or from its path and query.

    Raises:
        LinkRefused: `malformed`, also when the URL has neither `/get/` nor `/pickup/` in its path.
    """
    # urlsplit drops tabs and newlines and strips blanks; a link that had any must not pass.
    if any(ord(mark) <= 0x20 or ord(mark) == 0x7F for mark in url):
        raise _malformed("the link holds a blank or a control character")
    parts = urlsplit(url)
    for prefix in ("/get/", "/pickup/"):
        _, found, rest = parts.path.partition(prefix)
        if found:
            return parse_link(rest, parts.query)
    raise _malformed("the address has no /get/ in it")


def root_tag(key: bytes, scope: str, root: Iterable[tuple[str, str]]) -> bytes:
    """T of the format, before any condition."""
    lines = [FORMAT, scope.encode(), *(f"{name}={value}".encode() for name, value in root)]
    return hmac.digest(key, b"\n".join(lines), "sha256")


def chained(tag: bytes, conditions: Iterable[tuple[str, str]]) -> bytes:
    """T of the format, after the conditions."""
    for name, value in conditions:
        tag = hmac.digest(tag, f"{name}={value}".encode(), "sha256")
    return tag


def check_link(link: SealedLink, keys: Mapping[str, bytes], asked: Asked) -> None:
    """Returns when the link is good for this asking.

    Raises:
        LinkRefused: with the first reason of the format's table that applies.
    """
    key = keys.get(link.key)
    if key is None:
        raise LinkRefused("unknown-key", "the link names a key that is not in use")
    if not hmac.compare_digest(_seal_for(link, key), link.seal):
        raise LinkRefused("bad-seal", "the seal does not fit the link")
    failed = _first_failures(link, asked)
    for word in _ORDER:
        if word in failed:
            detail = _SAYS.get(word, "the link was revoked")
            value = failed[word]
            raise LinkRefused(word, detail.format(value=value, moment=_moment(value), address=link.address))


def _moment(value: str) -> str:
    """Unix seconds for people."""
    try:
        return time.strftime("%Y-%m-%d %H:%M:%S UTC", time.gmtime(int(value)))
    except (ValueError, OverflowError, OSError):  # no number, or a year that no calendar has
        return value


@lru_cache(maxsize=4096)
def _seal_for(link: SealedLink, key: bytes) -> str:
    """The seal that the link ought to have. Kept: a link is asked for again at each range of a file."""
    return _base64url(chained(root_tag(key, link.scope, link.root), link.conditions))


def _first_failures(link: SealedLink, asked: Asked) -> dict[str, str]:
    failed: dict[str, str] = {}
    scope = link.says("in")
    if scope is not None and not link.address.within(parse_address(scope)):
        failed["out-of-scope"] = scope
    for name, value in link.conditions:
        condition = _CONDITIONS[name]
        if condition.reason not in failed and not condition.holds(link, value, asked):
            failed[condition.reason] = value
    if asked.revoked:
        failed["revoked"] = ""
    return failed


def make_link(
    address: Address,
    key_id: str,
    key: bytes,
    root: Iterable[tuple[str, str]] = (),
    conditions: Iterable[tuple[str, str]] = (),
) -> SealedLink:
    """Seals a new link; root parameters may be given in any order.

    Raises:
        LinkRefused: `malformed`, when a name or a value is not one that the format allows.
    """
    if address.folder:
        raise _malformed("a link is made for a file; use in= to open a folder with it")
    chosen = list(root)
    ordered = sorted(chosen, key=lambda pair: _ROOT_ORDER.index(pair[0]) if pair[0] in ROOT else -1)
    given = tuple(conditions)
    _check_parts(ordered, key_id, given)
    scope = dict(ordered).get("in") or str(address)
    seal = _base64url(chained(root_tag(key, scope, ordered), given))
    return _within_limits(SealedLink(address, tuple(ordered), key_id, given, seal))


def narrow_link(link: SealedLink, conditions: Iterable[tuple[str, str]], address: Address | None = None) -> SealedLink:
    """Appends conditions, without the key; for a folder's link, `address` may name another file of it.

    The old seal becomes the key of the next step, so that the result allows no more than `link`.

    Raises:
        LinkRefused: `malformed`, when a condition is not one that the format allows.
    """
    added = tuple(conditions)
    whole = link.conditions + added
    _check_parts(link.root, link.key, whole)
    seal = _base64url(chained(_from_base64url(link.seal), added))
    return _within_limits(SealedLink(address or link.address, link.root, link.key, whole, seal))


def _within_limits(link: SealedLink) -> SealedLink:
    if len(link_query(link)) > QUERY_LIMIT:
        raise _malformed(f"the query would be longer than {QUERY_LIMIT} characters")
    return link


def link_query(link: SealedLink) -> str:
    pairs = [*link.root, ("key", link.key), *link.conditions, ("seal", link.seal)]
    return "&".join(f"{name}={quote(value, safe=_QUERY_SAFE)}" for name, value in pairs)


def link_target(link: SealedLink) -> str:
    """Path and query, from `/get/` on."""
    return f"/get/{quoted(link.address)}?{link_query(link)}"


def _base64url(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


def _from_base64url(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
