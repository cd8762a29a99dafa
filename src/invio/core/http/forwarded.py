"""Who is asking when a front server passes requests on: `X-Forwarded-For`, and only from those trusted.

The field is a list to which each server on the way appends whom it heard from. So it is read from
its end, for as long as the one who wrote an entry is a trusted one; whatever a client put in
front of that is hearsay.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from functools import lru_cache

_LONGEST = 60  # characters of an address with its port

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
        hop = _address(entry.strip(" \t"))
        if hop is None:
            # A trusted server says something that is no address: it is from nowhere that is known, and above all
            # not from that server's own network.
            return None
        network = hop
    return network


def _address(entry: str) -> str | None:
    """The address of an entry, without the port that some servers add: `192.0.2.1:80`, `[2001:db8::1]:443`."""
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
