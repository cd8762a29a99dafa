"""Who is asking, and for what, when a front server passes requests on: `X-Forwarded-*`, and only from those trusted.

The field is a list to which each server on the way appends whom it heard from. So it is read from
its end, for as long as the one who wrote an entry is a trusted one; whatever a client put in
front of that is hearsay.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Sequence
from functools import lru_cache

_LONGEST = 60  # characters of an address with its port
_PREFIX = re.compile(r"(?:/[A-Za-z0-9._~-]{1,64}){1,8}/?\Z", re.ASCII)
_HOST = re.compile(r"(?:[A-Za-z0-9.-]{1,253}|\[[0-9A-Fa-f:.]{2,45}\])(?::[0-9]{1,5})?\Z", re.ASCII)

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


def read_networks(texts: Sequence[str]) -> tuple[Network, ...]:
    """Networks from texts such as `10.0.0.0/8`. Raises ValueError for one that is none."""
    return tuple(ipaddress.ip_network(text) for text in texts)


@lru_cache(maxsize=1024)
def is_among(network: str | None, trusted: tuple[Network, ...]) -> bool:
    """Whether an address is in one of the networks; an IPv4 address in IPv6 form counts as IPv4."""
    try:
        address = ipaddress.ip_address(network or "")
    except ValueError:
        return False
    if isinstance(address, ipaddress.IPv6Address) and address.ipv4_mapped:
        address = address.ipv4_mapped
    return any(address in one for one in trusted)


def original_network(peer: str | None, field: str | None, trusted: tuple[Network, ...]) -> str | None:
    """The address of the client, as far as trusted servers tell it; `peer` is the connection's other side."""
    if not field or not trusted:
        return peer
    network = peer
    for entry in reversed(field.split(",")):
        if not is_among(network, trusted):
            break
        hop = told_address(entry)
        if hop is None:
            # A trusted server gives something that is no address: the client's network is unknown, and certainly not
            # that server's own.
            return None
        network = hop
    return network


def last_told(field: str | None) -> str | None:
    """The nearest server's value in a field that every server on the way may extend."""
    return None if field is None else field.rpartition(",")[2].strip(" \t")


def told_prefix(field: str | None) -> str:
    """The path below which a front server offers the service, without a slash at its end; empty for none."""
    told = last_told(field) or ""
    return told.rstrip("/") if _PREFIX.match(told) and "." not in told.split("/") and ".." not in told else ""


def told_host(field: str | None) -> str | None:
    """The host by which the client asked the front server; None where it is not told, or is none."""
    told = last_told(field)
    return told if told is not None and _HOST.match(told) else None


def told_address(entry: str) -> str | None:
    """The address of an entry, without the port that some servers add: `192.0.2.1:80`, `[2001:db8::1]:443`."""
    entry = entry.strip(" \t")
    if len(entry) > _LONGEST or "%" in entry:
        return None
    if entry.startswith("["):
        entry = entry[1:].partition("]")[0]
    elif entry.count(":") == 1:
        entry = entry.partition(":")[0]
    try:
        return str(ipaddress.ip_address(entry))
    except ValueError:
        return None
