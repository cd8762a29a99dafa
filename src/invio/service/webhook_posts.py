"""Posts what a webhook is told, signed; and says of a URL whether a webhook may be there.

Invariants:
- Nothing is posted to an address that is not a public one, nor without encryption, unless the settings name its origin.
- An answer's body is never read, and a redirect is a failure: the receiver has to be named where it is.
- A receiver whose answer does not end keeps its thread for half a minute.
"""

from __future__ import annotations

from types import TracebackType

import httpx

from invio.core.networks import is_host_name
from invio.core.signing import SigningKey
from invio.core.version import VERSION
from invio.core.webhook_signatures import FIELD, signature_of
from invio.service.foreign_answers import ExchangeLimit
from invio.service.settings import WebhookSettings
from invio.stores.store import StoreFault
from invio.stores.urls import origin_of, read_url, resolved

_PATIENCE = 10.0  # seconds for connecting, and for each wait after that
_LONGEST = 30.0  # seconds for a whole exchange


def why_not(settings: WebhookSettings, text: str) -> str | None:
    """Why a webhook may not be at this URL; None: it may."""
    try:
        url = read_url(text)
    except ValueError as error:
        return str(error)
    if not is_host_name(url.host) or url.userinfo:
        return "it has to name a host, and no user"
    if url.scheme != "https" and not _is_named(settings, url):
        return "it has to begin with https://, unless 'origins' of [webhooks] in the settings names its origin"
    return None


def _is_named(settings: WebhookSettings, url: httpx.URL) -> bool:
    return origin_of(url) in {origin_of(httpx.URL(one)) for one in settings.origins}


class Posts:
    """Posts to one webhook, over one connection as long as it lasts."""

    def __init__(self, url: str, settings: WebhookSettings, key: SigningKey, seconds: float = _LONGEST) -> None:
        """`seconds` are for one exchange."""
        self._url = url
        self._settings = settings
        self._key = key
        agent = {"user-agent": f"invio/{VERSION}"}
        self._http = httpx.Client(timeout=_PATIENCE, trust_env=False, headers=agent)
        self._limit = ExchangeLimit(seconds)

    def __enter__(self) -> Posts:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self._http.close()
        self._limit.close()

    def post(self, body: bytes) -> tuple[str, bool]:
        """Posts one body; gives what came back, and whether it was told."""
        refused = why_not(self._settings, self._url)
        if refused is not None:
            return refused, False
        url = httpx.URL(self._url)
        fields = {
            "host": url.netloc.decode("ascii"),
            "content-type": "application/json",
            FIELD: signature_of(body, self._key),
        }
        try:
            where = url.host if _is_named(self._settings, url) else resolved(url)
            extensions = {"sni_hostname": url.host, "trace": self._limit.trace}
            request = self._http.build_request(
                "POST", url.copy_with(host=where), headers=fields, content=body, extensions=extensions
            )
            with self._limit.exchange():
                answer = self._http.send(request, stream=True)
                answer.close()
        except StoreFault as error:
            return str(error), False
        except (httpx.HTTPError, TimeoutError) as error:
            return f"{url.host}: {error or type(error).__name__}", False
        return f"{answer.status_code} {answer.reason_phrase}".strip(), answer.is_success
