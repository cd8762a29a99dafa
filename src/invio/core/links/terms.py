"""The terms of sealed links: what root parameters and conditions there are, and when each holds.

Two tables, of which the rest of the format's code, the API and the command line are made: root
parameters, which only the issuer can set, and conditions, which only ever take something away.
"""

from __future__ import annotations

import binascii
import hashlib
import hmac
import ipaddress
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from invio.core.addresses import Address, parse_address
from invio.core.reasons import Refusal

CONDITION_LIMIT = 32
VALUE_LIMIT = 200  # characters, decoded

_NUMBER = re.compile(r"(?:0|[1-9][0-9]{0,14})\Z", re.ASCII)
_IDENT = re.compile(r"[A-Za-z0-9._@-]{1,64}\Z", re.ASCII)
_KEY_ID = re.compile(r"[A-Za-z0-9_-]{1,32}\Z", re.ASCII)
_AGENT = re.compile(r"[A-Za-z0-9_-]{22}\Z", re.ASCII)
_CONTROL = re.compile("[\x00-\x1f\x7f-\x9f\ud800-\udfff]")


class Asked(NamedTuple):
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


def malformed(detail: str) -> LinkRefused:
    """What refuses a link that is not well formed."""
    return LinkRefused("malformed", detail)


Pairs = Sequence[tuple[str, str]]  # (name, value)
Formed = Callable[[str], object]  # true for a value that is well formed


def _whole(least: int) -> Formed:
    return _NUMBER.match if least == 0 else lambda value: _NUMBER.match(value) and int(value) >= least


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
    return base64url(hashlib.sha256(agent.encode("utf-8", "surrogateescape")).digest()[:16])


def _within_limits(value: str) -> bool:
    return 1 <= len(value) <= VALUE_LIMIT and (value.isprintable() or not _CONTROL.search(value))


def _text(formed: Formed) -> Formed:
    """For values of any length and any characters; the other forms leave no room for too much of either."""
    return lambda value: _within_limits(value) and formed(value)


def _always(address: Address, value: str, asked: Asked) -> bool:
    return True


_RENDITION = re.compile(r"[a-z0-9][a-z0-9-]{0,31}\Z")

# name → is the value well formed? In the order in which root parameters must stand.
ROOT: dict[str, Formed] = {
    "in": _text(_is_folder),
    "version": _whole(1),
    "rendition": _RENDITION.match,
    "as": lambda value: value in ("attachment", "inline"),
    "name": _within_limits,
    "id": _IDENT.match,
    "to": _IDENT.match,
}
ROOT_ORDER = list(ROOT)
_PLACED = {name: (place, formed) for place, (name, formed) in enumerate(ROOT.items())}


@dataclass(frozen=True, slots=True)
class Condition:
    """One kind of condition: which values it can have, when it holds, and the reason when it does not."""

    formed: Formed
    holds: Callable[[Address, str, Asked], bool]
    reason: str


CONDITIONS: dict[str, Condition] = {
    "only": Condition(
        _text(_reads(parse_address)),
        lambda address, value, asked: address.within(parse_address(value)),
        "out-of-scope",
    ),
    "after": Condition(_whole(0), lambda address, value, asked: asked.at >= int(value), "not-yet"),
    "until": Condition(_whole(0), lambda address, value, asked: asked.at < int(value) + asked.grace, "expired"),
    "who": Condition(
        _IDENT.match,
        lambda address, value, asked: asked.caller == value,
        "wrong-recipient",
    ),
    "net": Condition(_text(_is_network), lambda address, value, asked: _inside(value, asked.ip), "wrong-network"),
    "agent": Condition(
        _AGENT.match,
        lambda address, value, asked: hmac.compare_digest(agent_mark(asked.agent), value),
        "wrong-agent",
    ),
    "uses": Condition(_whole(1), lambda address, value, asked: asked.used < int(value), "used-up"),
    "rate": Condition(_whole(1), _always, ""),
    "via": Condition(_within_limits, _always, ""),
    "tag": Condition(_IDENT.match, _always, ""),
}
CONDITION_NAMES = tuple(CONDITIONS)

# The order of the format's table of reasons, after the seal and the scope were found good.
ORDER = ("out-of-scope", "not-yet", "expired", "wrong-recipient", "wrong-network", "wrong-agent", "revoked", "used-up")

SAYS = {
    "out-of-scope": "the link does not open {address}",
    "not-yet": "the link is valid from {moment} on",
    "expired": "the link expired at {moment}",
    "wrong-recipient": "the link is valid only for the recipient it names; sign in as them",
    "wrong-network": "the link is not valid from your network address",
    "wrong-agent": "the link is not valid for your User-Agent",
    "used-up": "the link has been used {value} of {value} times",
}


_IDENT_TEXT = "1 to 64 of A-Z a-z 0-9 . _ @ -"
# What each value is, for whoever gave another.
_EXPECTED = {
    "in": "a folder, as in charts/approach/",
    "version": "a whole number of 1 or more",
    "rendition": "the name of a rendition, 1 to 32 characters of a-z 0-9 -",
    "as": "attachment or inline",
    "id": _IDENT_TEXT,
    "to": f"the id of a recipient, {_IDENT_TEXT}",
    "only": "a file or a folder, as in charts/approach/",
    "after": "Unix seconds",
    "until": "Unix seconds",
    "who": f"the id of a recipient, {_IDENT_TEXT}",
    "net": "a network without host bits, as in 10.20.0.0/16, and one address as in 10.20.0.7/32",
    "agent": "22 characters of base64url, made of a User-Agent",
    "uses": "a whole number of 1 or more",
    "rate": "bytes a second, a whole number of 1 or more",
    "tag": _IDENT_TEXT,
}


def _misfit(name: str, value: str) -> LinkRefused:
    """Why a value is not well formed."""
    if not 1 <= len(value) <= VALUE_LIMIT:
        return malformed(f"{name} has a value of 1 to {VALUE_LIMIT} characters")
    if not _within_limits(value):
        return malformed(f"{name} holds a control character")
    return malformed(f"{name}={value[:80]!r} is not possible; expected {_EXPECTED[name]}")


def check_terms(root: Pairs, key: str, conditions: Pairs) -> None:
    """Checks root parameters and conditions against the format."""
    reached = -1
    for name, value in root:
        if name not in _PLACED:
            raise malformed(f"{name!r} does not belong before key")
        place, formed = _PLACED[name]
        if place <= reached:
            raise malformed(f"{name} comes twice or out of order")
        if not formed(value):
            raise _misfit(name, value)
        reached = place
    if not _KEY_ID.match(key):
        raise malformed("key is 1 to 32 characters of A-Z a-z 0-9 _ -")
    if len(conditions) > CONDITION_LIMIT:
        raise malformed(f"a link has at most {CONDITION_LIMIT} conditions")
    for name, value in conditions:
        condition = CONDITIONS.get(name)
        if condition is None:
            raise malformed(f"{name!r} is no condition; conditions are {', '.join(CONDITION_NAMES)}")
        if not condition.formed(value):
            raise _misfit(name, value)
        if name == "uses" and "id" not in dict(root):
            raise malformed("a link with uses needs an id, set when it is made")
        if name == "tag" and [other for other, _ in conditions].count("tag") > 1:
            raise malformed("tag comes at most once")


_URL_SAFE = bytes.maketrans(b"+/", b"-_")


def base64url(data: bytes) -> str:
    """Without padding."""
    return binascii.b2a_base64(data, newline=False).translate(_URL_SAFE, b"=").decode()
