"""Front servers: the clients they forward, and the files they send in our place.

A front server can send a file itself when a response header names it; the front server removes that header. Access,
terms and conditions are decided before that. Only peers that the settings trust get the header: it shows where files
lie.
"""

from __future__ import annotations

import hmac
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from urllib.parse import quote

from invio.core.http.forwarded import (
    Network,
    is_among,
    last_told,
    original_network,
    told_address,
    told_host,
    told_prefix,
)
from invio.core.http.replies import Reply, Representation
from invio.core.http.request_head import RequestHead
from invio.core.throttle import Throttle
from invio.stores.store import Found

# The front server would compare these with its own validators, so such requests are answered here.
_OWN_CONDITIONS = (b"if-match", b"if-unmodified-since", b"if-range", b"want-content-digest")
_ITS_OWN_FIELDS = (b"content-length", b"content-range", b"accept-ranges")


@dataclass(frozen=True, slots=True)
class Front:
    """`trusted` are the networks of front servers.

    `unix`: clients of a Unix socket are trusted, too; they have no network address. `header` orders it to send a file,
    `rate_header` (if it has one) at how many bytes a second; `prefixes` is by store what its paths begin with there.
    `secret` in `secret_header` distinguishes it from other clients on the same machine.
    """

    trusted: tuple[Network, ...] = ()
    unix: bool = False
    header: str | None = None
    rate_header: str | None = None
    prefixes: Mapping[str, str] = field(default_factory=dict)
    secret_header: str | None = None
    secret: str = field(default="", repr=False)
    plain_paths: bool = False  # whether the header takes a plain path instead of a percent-encoded one

    @property
    def trusts_any(self) -> bool:
        """Whether there is a front server at all."""
        return self.unix or bool(self.trusted)

    def is_front(self, peer: str | None) -> bool:
        """Whether the other side of a connection is a front server; `peer` is None for a Unix socket."""
        return self.unix if peer is None else is_among(peer, self.trusted)

    def network(self, peer: str | None, head: RequestHead) -> str | None:
        """The client's network address, as a trusted front server reports it."""
        if peer is None and self.unix:
            before, _, told = (head.get(b"x-forwarded-for") or "").rpartition(",")
            return original_network(told_address(told), before, self.trusted)
        return original_network(peer, head.get(b"x-forwarded-for"), self.trusted) if self.trusted else peer

    def scheme(self, peer: str | None, head: RequestHead) -> str | None:
        """The scheme of the client's request to a trusted front server; None without one."""
        told = last_told(head.get(b"x-forwarded-proto")) if self.is_front(peer) else None
        return None if told is None else told.lower()

    def host(self, peer: str | None, head: RequestHead) -> str | None:
        """The host of the client's request to a trusted front server; None without one."""
        return told_host(head.get(b"x-forwarded-host")) if self.is_front(peer) else None

    def prefix(self, peer: str | None, head: RequestHead) -> str:
        """The path below which a trusted front server offers the service; empty without one."""
        return told_prefix(head.get(b"x-forwarded-prefix")) if self.is_front(peer) else ""

    def sends_from(self, store: str, peer: str | None, head: RequestHead) -> bool:
        """Whether the peer is a front server that sends this store's files, and proves it with the secret."""
        if self.header is None or store not in self.prefixes or not self.is_front(peer):
            return False
        given = head.get(self.secret_header.lower().encode()) if self.secret_header else None
        return given is not None and hmac.compare_digest(given.encode("latin-1"), self.secret.encode())

    def hand_off(
        self,
        head: RequestHead,
        found: Found,
        representation: Representation,
        reply: Reply,
        throttles: Sequence[Throttle],
    ) -> Reply | None:
        """The response that makes the front server send the file; None where only we can.

        It handles ranges itself, because it has the same request; what it cannot know (a condition on our validators, a
        coding, several ranges, a speed without a header) is answered here, as is what is not the store's own file: by
        the address of a rendition it would send the image itself.
        """
        if self.header is None or found.on_disk is None or found.lasting is not None:
            return None
        if representation.coding is not None:
            return None
        if any(name in head for name in _OWN_CONDITIONS) or len(reply.spans) != 1:
            return None
        fields = [entry for entry in reply.headers if entry[0] not in _ITS_OWN_FIELDS]
        if throttles:
            if self.rate_header is None:
                return None
            slowest = min(throttle.rate for throttle in throttles)
            fields.append((self.rate_header.lower().encode(), b"%d" % slowest))
        address = found.facts.address
        place = self.prefixes[address.store] + (address.path if self.plain_paths else quote(address.path))
        fields += [(self.header.lower().encode(), place.encode()), (b"content-length", b"0")]
        return replace(reply, status=200, headers=fields, parts=[], length=0)


NO_FRONT = Front()


def redirect(address: str) -> Reply:
    """Redirects the client to an address that a remote store made; it is valid for a while, for anyone who has it.

    307 keeps the method, and a range that was asked for (RFC 9110 §15.4.8).
    """
    fields = [
        (b"location", address.encode("ascii")),
        (b"cache-control", b"no-store"),
        (b"referrer-policy", b"no-referrer"),
        (b"content-length", b"0"),
    ]
    return Reply(307, fields, [], 0)
