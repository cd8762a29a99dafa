"""Files by their URLs, for archives: from origins that the settings name, and from nowhere else.

A URL is what a caller gives, and a service stands where callers do not: behind a firewall, beside a metadata address of
its cloud. So an origin has to be on the list of the settings; what its name resolves to is looked at each time, and the
connection goes to the very address that was looked at; and where it redirects is held to the same.

Invariants:
- No request goes to an origin that is not on the list.
- No request goes to an address that is not a public one, unless the list names that address itself.
"""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Sequence

import httpx

from invio.core.addresses import LONGEST, Address
from invio.core.reasons import Refusal
from invio.stores.origin import OriginStore
from invio.stores.store import Found, StoreFault

_PORTS = {"http": 80, "https": 443}

Origin = tuple[str, str, int]


def origin_of(url: httpx.URL) -> Origin:
    """Scheme, host and port (RFC 6454 §4)."""
    return url.scheme, url.host, url.port or _PORTS.get(url.scheme, 0)


def read_url(text: str) -> httpx.URL:
    """The URL that a text is. Raises ValueError: it is none, or its host none that there can be."""
    try:
        url = httpx.URL(text)
        url.host  # noqa: B018 - an international name is read with it
    except (httpx.InvalidURL, UnicodeError) as error:
        raise ValueError(str(error)) from None
    return url


class Urls:
    """The files of some origins."""

    def __init__(self, origins: Sequence[str], timeout: float = 20.0) -> None:
        self._allowed = {origin_of(httpx.URL(one)) for one in origins}
        self._stores = {scheme: _UrlStore(scheme, self._allowed, timeout) for scheme in ("http:", "https:")}

    def locate(self, text: str) -> Found:
        """The file at a URL, found without being read.

        Raises:
            Refusal: `malformed`, or `not-allowed` where its origin is not on the list.
            Missing, StoreFault.
        """
        try:
            url = read_url(text)
        except ValueError as error:
            raise Refusal("malformed", f"{text[:200]!r} is no URL: {error}") from None
        if len(text) > LONGEST or not text.isprintable() or url.userinfo or not url.host:
            raise Refusal("malformed", f"{text[:200]!r} is no URL of a file")
        if origin_of(url) not in self._allowed:
            raise Refusal("not-allowed", f"{url.host} is none of the origins that files are taken from")
        scheme, _, rest = text.partition("/")
        return self._stores[scheme].locate(Address(scheme, rest))


class _UrlStore(OriginStore):
    """The files of one scheme: their addresses are their URLs."""

    kind = "url"

    def __init__(self, scheme: str, allowed: set[Origin], timeout: float) -> None:
        super().__init__(scheme, f"{scheme}//", {}, timeout=timeout)
        self._allowed = allowed

    def url_of(self, address: Address) -> httpx.URL:
        return httpx.URL(str(address))

    def may_ask(self, url: httpx.URL) -> bool:
        return origin_of(url) in self._allowed

    def send(self, method: str, url: httpx.URL, headers: dict[str, str]) -> httpx.Response:
        where = resolved(url)
        named = {**headers, "host": url.netloc.decode("ascii")}
        request = self._http.build_request(
            method, url.copy_with(host=where), headers=named, extensions={"sni_hostname": url.host}
        )
        return self._http.send(request, stream=True)


def resolved(url: httpx.URL) -> str:
    """The address to connect to: a public one, or the one that the URL itself names. Raises StoreFault."""
    try:
        return str(ipaddress.ip_address(url.host))  # it is on the list as that
    except ValueError:
        pass
    try:
        found = socket.getaddrinfo(url.host, origin_of(url)[2], type=socket.SOCK_STREAM)
    except OSError as error:
        raise StoreFault(f"{url.host}: {error.strerror or error}") from None
    except UnicodeError:  # of a label without letters, or with too many
        raise StoreFault(f"{url.host} is no name of a host") from None
    for *_, address in found:
        text = str(address[0])
        if is_public(text):
            return text
    raise StoreFault(f"{url.host} is at an address that is not a public one; the settings can name that address itself")


def is_public(text: str) -> bool:
    """Whether an address is one of the public network: neither private, loopback, link-local nor reserved."""
    address = ipaddress.ip_address(text.partition("%")[0])
    mapped = getattr(address, "ipv4_mapped", None)
    address = mapped or address
    return address.is_global and not address.is_multicast
