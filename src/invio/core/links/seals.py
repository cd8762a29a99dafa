"""Sealed links, format `invio-link-1`: an address with conditions and a seal.

The seal is a chain of HMACs: each condition is authenticated with the output of the step before
it, so that whoever holds a link can append a condition and nobody can take one away. Parsing is
strict and comes first, the seal second, and only then is anything said about what the link holds.
What a link can say, and when it holds, stands in the tables of `link_terms`.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache, partial
from sys import intern
from urllib.parse import quote, urlsplit

from invio.core.addresses import Address, BadAddress, parse_address, percent_decoded, quoted, requested_address
from invio.core.links.terms import (
    CONDITIONS,
    ORDER,
    ROOT,
    ROOT_ORDER,
    SAYS,
    Asked,
    LinkRefused,
    base64url,
    check_terms,
    malformed,
)

FORMAT = "invio-link-1"
_FIRST_LINE = f"{FORMAT}\n"  # of what the seal's first step is made of
QUERY_LIMIT = 4096  # characters, still encoded
# Parts the id of a link that a recipient had the service make from its maker: `invoice-7@pilot-7`.
MADE_BY = "@"
_ID_LIMIT = 64  # characters
# Of names and values in root and conditions: a character takes twelve in the query, when each of its four bytes is
# encoded; key, seal, and the `=` and `&` of 39 pairs take less than 200.
_SURELY_FIT = (QUERY_LIMIT - 200) // 12

Pairs = tuple[tuple[str, str], ...]  # (name, value), in the order of the link

_KEPT_UP_TO = 1500  # characters of a link that is kept: longer ones are rare, and would fill the memory

# 43 characters are two bits more than 32 bytes have: in the last one these are zero, or two texts were one seal.
_SEAL = re.compile(r"[A-Za-z0-9_-]{42}[AEIMQUYcgkosw048]\Z", re.ASCII)
# For the name of a hash, the library has OpenSSL set up an HMAC, which takes longer than to hash a few dozen bytes. For
# something to call it does what RFC 2104 says by itself.
_SHA256 = partial(hashlib.sha256)
# What stays as it is in a query's value: readable links, and nothing that ends a pair or a query.
_QUERY_SAFE = "/-._~:@,*"


@dataclass(slots=True)
class SealedLink:
    """A link, decoded. `root` and `conditions` are (name, value) pairs in the link's own order.

    It is immutable; derived values are computed on first use and cached.
    """

    address: Address
    root: tuple[tuple[str, str], ...]
    key: str
    conditions: tuple[tuple[str, str], ...]
    seal: str
    _sealed_by: bytes | None = field(default=None, init=False, repr=False, compare=False)
    _summary: LinkSummary | None = field(default=None, init=False, repr=False, compare=False)
    _mark: str | None = field(default=None, init=False, repr=False, compare=False)

    def says(self, name: str) -> str | None:
        """The value of a root parameter, or None."""
        for key, value in self.root:
            if key == name:
                return value
        return None

    def conditions_named(self, name: str) -> list[str]:
        """The values of all conditions of this name, in the link's order."""
        return [value for key, value in self.conditions if key == name]

    def is_sealed_by(self, key: bytes) -> bool:
        """Whether this key produced the link's seal.

        A positive result is cached on the link, because every range of a file asks again.
        """
        if self._sealed_by == key:
            return True
        seal = _sealed(key, self.scope, self.root, self.conditions)
        if not hmac.compare_digest(seal, self.seal):
            return False
        self._sealed_by = key
        return True

    def __hash__(self) -> int:
        # Links that are alike have the same seal; equality still looks at every field.
        return hash(self.seal)

    @property
    def mark(self) -> str:
        """What tells this link from every other one, and does not give its seal away."""
        if self._mark is None:
            self._mark = base64url(hashlib.blake2b(self.seal.encode(), digest_size=12).digest())
        return self._mark

    @property
    def names_recipient(self) -> str | None:
        """The recipient whom the key's holder names as the downloader; None where it names nobody.

        In a link that a recipient had the service make, `to` is only what that recipient wrote; the link's id shows
        this (see `id_of_maker`).
        """
        summary = self.summary
        return None if summary.id is not None and MADE_BY in summary.id else summary.to

    @property
    def scope(self) -> str:
        """What the seal is of: the folder that `in` names, or the address."""
        return _folder_of(self.root) or f"{self.address.store}/{self.address.path}"

    @property
    def folder(self) -> str | None:
        """The folder that `in` names."""
        return _folder_of(self.root)

    @property
    def rate(self) -> int | None:
        """The lowest of the `rate` conditions, in bytes per second."""
        return self.summary.rate

    @property
    def expires(self) -> int | None:
        """The earliest `until`, Unix seconds; None for a link without an end."""
        return self.summary.until

    @property
    def uses(self) -> int | None:
        """How many downloads the link's id allows; None for any number."""
        return self.summary.uses

    @property
    def tag(self) -> str | None:
        """What names the transfer, to follow its progress."""
        return self.summary.tag

    @property
    def via(self) -> str | None:
        """The labels of those who passed the link on, in order."""
        return self.summary.via

    @property
    def summary(self) -> LinkSummary:
        """What the link says of its downloads."""
        if self._summary is None:
            self._summary = self._summed_up()
        return self._summary

    def _summed_up(self) -> LinkSummary:
        least: dict[str, int] = {}
        tag, via = None, None
        for name, value in self.conditions:
            if name in ("rate", "until", "uses"):
                least[name] = min(int(value), least.get(name, int(value)))
            elif name == "tag":
                tag = value
            elif name == "via":
                via = value if via is None else f"{via} / {value}"
        to, called = self.says("to"), self.says("id")
        return LinkSummary(to, called, least.get("rate"), least.get("until"), least.get("uses"), tag, via)


def _folder_of(root: Sequence[tuple[str, str]]) -> str | None:
    """What `in` names; where there is one, it stands before all other root parameters (`ROOT`)."""
    return root[0][1] if root and root[0][0] == "in" else None


@dataclass(slots=True)
class LinkSummary:
    """For whom a link is, its id, and what its conditions come to.

    It is immutable, and no tuple: a tuple's fields take ten times as long to read, and each request reads eight.
    """

    to: str | None
    id: str | None
    rate: int | None
    until: int | None
    uses: int | None
    tag: str | None
    via: str | None


# One text for each name that a link can have, whatever number of links has it.
_KNOWN = {name: name for name in (*ROOT, "key", *CONDITIONS, "seal")}
_PLAIN = re.compile(r"[A-Za-z0-9._~-]*\Z")
# A shell cuts what is not quoted at its first `&`: of a link is left one pair then, which stands in nothing else.
_MARKS = re.compile(r"(?:^|&)(?:key|seal)(?:=|&|$)|^(?:in|id|to)=[^&]*$")


def is_sealed(query: str) -> bool:
    """Whether a query is meant to be a sealed link's, well formed or not."""
    # A well-formed link ends in its seal; what is not one may have its marks anywhere.
    return bool(query) and ("&seal=" in query or _MARKS.search(query) is not None)


def parse_query(query: str) -> list[tuple[str, str]]:
    """Splits and decodes a query as the format says; `+` is a plus sign.

    Raises:
        LinkRefused: `malformed`.
    """
    return [_decoded_pair(pair) for pair in _cut(query)]


def _cut(query: str) -> list[str]:
    if len(query) > QUERY_LIMIT:
        raise malformed(f"the query is longer than {QUERY_LIMIT} characters")
    return query.split("&")


def _decoded_pair(pair: str) -> tuple[str, str]:
    name, equals, value = pair.partition("=")
    if not equals:
        raise malformed(f"{pair[:40]!r} is not name=value")
    try:
        return percent_decoded(name), percent_decoded(value)
    except BadAddress as error:
        raise malformed(f"in the query: {error}") from None


def parse_link(target: str) -> SealedLink:
    """Reads a link from what follows `/get/` in its target: path and query, still encoded.

    Raises:
        LinkRefused: `malformed`.
    """
    return kept_link(target) if len(target) <= _KEPT_UP_TO else _read_link(target)


@lru_cache(maxsize=4096)
def kept_link(target: str) -> SealedLink:
    """As `parse_link`; the last few thousand are kept, for a link is asked for again at each range."""
    return _read_link(target)


def _read_link(target: str) -> SealedLink:
    path, _, query = target.partition("?")
    try:
        address = requested_address(path)
    except BadAddress as error:
        raise malformed(str(error)) from None
    root, key, conditions, seal = _divided(query)
    check_terms(root, key, conditions)
    if not _SEAL.match(seal):
        raise malformed("a seal is 43 characters of base64url, without padding")
    return SealedLink(address, root, intern(key), conditions, seal)


def _divided(query: str) -> tuple[Pairs, str, Pairs, str]:
    """Root, key, conditions and seal: what stands before the key, the key, what follows it, and the end."""
    root: list[tuple[str, str]] = []
    conditions: list[tuple[str, str]] = []
    key = seal = None
    part = root
    plain = "%" not in query and query.isascii()
    for pair in _cut(query):
        name, equals, value = pair.partition("=")
        if not plain or not equals:
            name, value = _decoded_pair(pair)
        if seal is not None:
            raise malformed("a link has exactly one seal, and it comes last")
        if name == "key":
            if key is not None:
                raise malformed("a link has exactly one key")
            key, part = value, conditions
        elif name == "seal":
            seal = value
        else:
            part.append((_KNOWN.get(name, name), value))
    if seal is None:
        raise malformed("the link ends before its seal; copy all of it, and on a command line put it in quotes")
    if key is None:
        raise malformed("a link has exactly one key")
    return tuple(root), key, tuple(conditions), seal


def parse_url(url: str) -> SealedLink:
    """Reads a link from a whole URL, or from its path and query.

    Raises:
        LinkRefused: `malformed`, also when the URL has neither `/get/` nor `/pickup/` in its path.
    """
    # urlsplit drops tabs and newlines and strips blanks; a link that had any must not pass.
    if any(ord(mark) <= 0x20 or ord(mark) == 0x7F for mark in url):
        raise malformed("the link contains a blank or a control character")
    parts = urlsplit(url)
    for prefix in ("/get/", "/pickup/"):
        _, found, rest = parts.path.partition(prefix)
        if found:
            return parse_link(f"{rest}?{parts.query}")
    raise malformed("the address has no /get/ in it")


def _sealed(key: bytes, scope: str, root: Pairs, conditions: Pairs) -> str:
    """The seal of a link, as it stands in the link."""
    text = _FIRST_LINE + scope
    for name, value in root:
        text += f"\n{name}={value}"
    return base64url(_chained(hmac.digest(key, text.encode(), _SHA256), conditions))


def _chained(tag: bytes, conditions: Pairs) -> bytes:
    """T of the format, after the conditions; `tag` is T before them."""
    for name, value in conditions:
        tag = hmac.digest(tag, f"{name}={value}".encode(), _SHA256)
    return tag


def check_link(link: SealedLink, keys: Mapping[str, bytes], asked: Asked) -> None:
    """Returns when the link is good for this asking.

    Raises:
        LinkRefused: with the first reason of the format's table that applies.
    """
    key = keys.get(link.key)
    if key is None:
        raise LinkRefused("unknown-key", "the link names a key that is not in use")
    if not link.is_sealed_by(key):
        raise LinkRefused("bad-seal", "the seal does not match the link")
    failed = _first_failures(link, asked)
    if not failed:
        return
    for word in ORDER:
        if word in failed:
            detail = SAYS.get(word, "the link was revoked")
            value = failed[word]
            raise LinkRefused(word, detail.format(value=value, moment=_moment(value), address=link.address))


def _moment(value: str) -> str:
    """Unix seconds for people."""
    try:
        return time.strftime("%Y-%m-%d %H:%M:%S UTC", time.gmtime(int(value)))
    except (ValueError, OverflowError, OSError):  # no number, or a year that no calendar has
        return value


def _first_failures(link: SealedLink, asked: Asked) -> dict[str, str]:
    failed: dict[str, str] = {}
    folder = _folder_of(link.root)
    if folder is not None and not link.address.within(parse_address(folder)):
        failed["out-of-scope"] = folder
    for name, value in link.conditions:
        condition = CONDITIONS[name]
        if not condition.holds(link.address, value, asked):
            failed.setdefault(condition.reason, value)
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
        LinkRefused: `malformed`, when a name or a value is not one that the format allows, or when the
            address is outside the folder that `in` names: such a link opens other files than the one it is for.
    """
    if address.folder:
        raise malformed(f"{address} is a folder; name a file in it, and the folder as 'in' (--in) to open all of it")
    said, given = tuple(root), tuple(conditions)
    if len(said) > 1:
        said = tuple(sorted(said, key=lambda pair: ROOT_ORDER.index(pair[0]) if pair[0] in ROOT else -1))
    check_terms(said, key_id, given)
    scope = _folder_of(said)
    if scope is None:
        scope = f"{address.store}/{address.path}"
    elif not address.within(parse_address(scope)):
        raise malformed(f"{address} is not in {scope}; make the link for a file of that folder")
    return _within_limits(SealedLink(address, said, key_id, given, _sealed(key, scope, said, given)))


def id_of_maker(given: str, maker: str) -> str:
    """The id under which the service seals a link for a recipient: no other recipient can get a link of this id.

    `given` is the maker's own name for it. A maker whose id leaves no room is named by a digest.

    Raises:
        LinkRefused: `malformed`, when `given` is too long or names a maker itself.
    """
    if given.endswith(MADE_BY + maker):
        given = given.removesuffix(MADE_BY + maker)
    if not given or MADE_BY in given:
        raise malformed(
            f"id={given!r}: an id that you choose may not contain {MADE_BY}; "
            f"the service appends {MADE_BY} and your own id"
        )
    whole = f"{given}{MADE_BY}{maker}"
    if len(whole) > _ID_LIMIT:
        whole = f"{given}{MADE_BY}{hashlib.blake2b(maker.encode(), digest_size=8).hexdigest()}"
    if len(whole) > _ID_LIMIT:
        raise malformed(f"an id that you choose has at most {_ID_LIMIT - 17} characters")
    return whole


def narrow_link(link: SealedLink, conditions: Iterable[tuple[str, str]], address: Address | None = None) -> SealedLink:
    """Appends conditions, without the key; for a folder's link, `address` may name another file of it.

    The old seal becomes the key of the next step, so that the result allows no more than `link`.

    Raises:
        LinkRefused: `malformed`, when a condition is not one that the format allows, or `address` is not in
            the folder that the link opens.
    """
    if address is not None and not address.within(parse_address(link.scope)):
        raise malformed(f"the link opens {link.scope}, and {address} is not in it")
    added = tuple(conditions)
    opens = address or link.address
    whole = link.conditions + added
    check_terms(link.root, link.key, whole)
    seal = base64url(_chained(_from_base64url(link.seal), added))
    return _within_limits(SealedLink(opens, link.root, link.key, whole, seal))


def _within_limits(link: SealedLink) -> SealedLink:
    characters = 0
    for name, value in link.root + link.conditions:
        characters += len(name) + len(value)
    if characters > _SURELY_FIT and len(link_query(link)) > QUERY_LIMIT:
        raise malformed(f"the query would be longer than {QUERY_LIMIT} characters")
    return link


def link_query(link: SealedLink) -> str:
    """The link's query as it stands after the `?`, encoded."""
    pairs = [*link.root, ("key", link.key), *link.conditions, ("seal", link.seal)]
    return "&".join([f"{name}={_quoted(value)}" for name, value in pairs])


def _quoted(value: str) -> str:
    return value if _PLAIN.match(value) else quote(value, safe=_QUERY_SAFE)


def link_target(link: SealedLink) -> str:
    """Path and query, from `/get/` on."""
    return f"/get/{quoted(link.address)}?{link_query(link)}"


def _from_base64url(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
