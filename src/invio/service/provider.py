"""An identity provider's tokens (JWT, RFC 7519): checked against its published keys (JWK Set, RFC 7517).

The keys come from a file or a URL. They are fetched again when they are old, and when a token names an unknown key, but
at most every half minute, so that strangers' tokens cannot make this service send requests at will. While the provider
does not respond, the known keys stay valid.
"""

from __future__ import annotations

import json
import logging
import re
import threading
import time
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

from invio.records.recipients import Recipient
from invio.service.foreign_answers import ExchangeLimit, body_within

if TYPE_CHECKING:
    from invio.service.settings import IdentitySettings

log = logging.getLogger("invio.service")

_GOOD_FOR = 3600.0  # seconds for which keys are used before they are looked at again
_NOT_BEFORE = 30.0  # seconds between two looks because of a key that is not known
_ANSWERS_WITHIN, _MOST_KEYS = 5.0, 1024 * 1024  # seconds, and bytes, of an answer with keys
_ID = re.compile(r"[A-Za-z0-9._@-]{1,64}\Z")
_LONGEST = 16 * 1024  # characters of a token


class _Unknown(Exception):
    """There is no such key, or the keys cannot be fetched."""


class Provider:
    """Reads the tokens of one identity provider. Calls may wait for the network, so they belong in a worker thread."""

    def __init__(self, given: IdentitySettings, folder: Path) -> None:
        self._given = given
        self._file = None if given.keys.startswith(("http://", "https://")) else folder / given.keys
        self._keys: dict[str | None, Any] = {}
        self._looked = -_GOOD_FOR
        self._seen: tuple[int, int] | None = None  # the file's time and size
        self._lock = threading.Lock()

    @staticmethod
    def recognises(token: str) -> bool:
        """Whether it has the form of such a token; those of our own records have no dots."""
        return token.count(".") == 2

    def recipient_of(self, token: str) -> Recipient | str:
        """The token's recipient, with the groups it names; or what is wrong with it. The log has the details."""
        import jwt  # with its cryptography it takes memory, which only those need who have a provider

        given = self._given
        try:
            if len(token) > _LONGEST:
                raise _Unknown("the token is too long")
            head = jwt.get_unverified_header(token)
            claims = jwt.decode(
                token,
                self._key(head.get("kid")),
                algorithms=given.algorithms,
                audience=given.audience,
                issuer=given.issuer,
                leeway=given.leeway,
                options={"require": ["exp", "iss", "aud"]},
            )
            return self._recipient(claims)
        except (jwt.PyJWTError, _Unknown) as error:
            log.info("token.refused", extra={"fields": {"issuer": given.issuer, "because": str(error)}})
            if isinstance(error, jwt.ExpiredSignatureError):
                return "the identity provider's token has expired; sign in there again"
            return "the identity provider's token does not hold here; the operator's log says why"

    def _recipient(self, claims: dict[str, Any]) -> Recipient:
        given = self._given
        subject = claims.get(given.id_claim)
        recipient = f"{given.prefix}{subject}"
        if not isinstance(subject, str) or not _ID.match(recipient):
            raise _Unknown(f"its claim {given.id_claim} is no id of 1 to 64 letters, digits and . _ @ -")
        groups = claims.get(given.groups_claim) if given.groups_claim else None
        if isinstance(groups, str):
            groups = groups.split()
        held = groups if isinstance(groups, list) else []
        name = claims.get("name")
        return Recipient(
            recipient,
            name if isinstance(name, str) else recipient,
            frozenset(one for one in held if isinstance(one, str) and _ID.match(one)),
            credential="identity provider's token",
        )

    def _key(self, name: str | None) -> Any:
        # While somebody looks, only those wait whose key is not known yet.
        if self._lock.acquire(blocking=self._known(name) is None):
            try:
                now = time.monotonic()
                patience = _NOT_BEFORE if self._known(name) is None else _GOOD_FOR
                if now - self._looked > patience or self._altered():
                    self._look(now)
            finally:
                self._lock.release()
        key = self._known(name)
        if key is None:
            raise _Unknown(f"it is signed by the key {name!r}, which is not among the provider's")
        return key

    def _known(self, name: str | None) -> Any:
        """The key of this name; a provider of one key need not name it. None where it is not known."""
        keys = self._keys  # which is replaced as a whole
        return next(iter(keys.values())) if name is None and len(keys) == 1 else keys.get(name)

    def _altered(self) -> bool:
        return self._file is not None and _signature(self._file) != self._seen

    def _look(self, now: float) -> None:
        """Fetches the keys again; on failure the known keys stay."""
        import httpx
        import jwt

        self._looked = now
        try:
            if self._file is not None:
                self._seen = _signature(self._file)
                told = self._file.read_bytes()
            else:
                told = self._fetched()
            keys = {key.key_id: key for key in jwt.PyJWKSet.from_dict(json.loads(told)).keys}
        except (
            OSError, ValueError, TypeError, AttributeError, RecursionError, httpx.HTTPError, jwt.PyJWTError,
        ) as error:  # fmt: skip
            said = {"keys": self._given.keys, "error": str(error) or type(error).__name__}
            log.error("identity.keys-not-read", extra={"fields": said})
            return
        self._keys = keys

    def _fetched(self) -> bytes:
        """What the provider answers. Raises ValueError, TimeoutError, httpx.HTTPError: see `body_within`."""
        import httpx

        began, limit = time.monotonic(), ExchangeLimit(_ANSWERS_WITHIN)
        client = httpx.Client(timeout=_ANSWERS_WITHIN, follow_redirects=False)
        asked = client.stream("GET", self._given.keys, extensions={"trace": limit.trace})
        with closing(limit), client, limit.exchange(), asked as answer:
            answer.raise_for_status()
            return body_within(answer, _MOST_KEYS, _ANSWERS_WITHIN, began, time.monotonic)


def _signature(file: Path) -> tuple[int, int] | None:
    """What changes with the file; None while it cannot be looked at."""
    try:
        status = file.stat()
    except OSError:
        return None
    return status.st_mtime_ns, status.st_size
