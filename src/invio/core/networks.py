"""Names of hosts; and what counts as one place: an address, and of IPv6 the /64 of one household or machine (RFC 6177).

Whoever is counted by single addresses is not counted at all over IPv6: there are 2^64 of them for each.
"""

from __future__ import annotations

import ipaddress
from functools import lru_cache


def is_host_name(text: str) -> bool:
    """Whether a host of this name can be looked up: labels of 1 to 63 bytes, as RFC 1035 §2.3.4 says.

    The system's resolver is not asked: for another name it raises an error that is none of the network.
    """
    name = text.removesuffix(".")
    try:
        return bool(name.encode("idna"))
    except UnicodeError:
        return False


@lru_cache(maxsize=4096)
def network_of(address: str | None) -> str:
    """The network that an address counts for: itself, or of IPv6 its /64; `unknown` for what is no address."""
    try:
        parsed = ipaddress.ip_address(address or "")
    except ValueError:
        return "unknown"
    if isinstance(parsed, ipaddress.IPv6Address):
        if parsed.ipv4_mapped is not None:
            return str(parsed.ipv4_mapped)
        return str(ipaddress.ip_network((int(parsed) >> 64 << 64, 64)))
    return str(parsed)


# One text for all requests of the same: many may wait at once.
@lru_cache(maxsize=1024)
def principal(recipient: str | None, address: str | None) -> str:
    """Whose limits and quotas hold: a recipient's, or of somebody who did not sign in those of the network."""
    return f"recipient:{recipient}" if recipient else f"network:{network_of(address)}"
