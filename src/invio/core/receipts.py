"""Receipts: signed statements that a content has arrived, checked by anybody without asking the service.

A receipt is a compact JWS (`core/signing.py`). Its payload is JSON: what was delivered, to whom, when, and of which
content.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

from invio.core.signing import BadSignature, SigningKey, signed

_TYPE = "invio-receipt"
_MOST = 16 * 1024  # characters of a receipt that is looked at


class BadReceipt(ValueError):
    """A receipt does not hold; the message says why."""


@dataclass(frozen=True, slots=True)
class Receipt:
    """What a receipt states. Times in Unix seconds (UTC), `size` in bytes.

    `service` is the address of the service that signed it. `rendition` names the one that arrived in place of the image
    at `address`. `sha256` is hexadecimal, and None where the service does
    not know it (a content made on demand, an archive). `recipient` is who was signed in, or whom a link names by the
    word of the key's holder; None where that is nobody. `made_for` is whom the link says that it was made for.
    """

    service: str
    transfer: str
    address: str
    version: int | None
    size: int | None
    etag: str | None
    sha256: str | None
    recipient: str | None
    made_for: str | None
    link: str | None
    began: float
    arrived: float
    signed: float
    rendition: str | None = None  # earlier receipts have none


def sign(receipt: Receipt, key: SigningKey) -> str:
    """The receipt as a compact JWS."""
    return key.sign(_TYPE, json.dumps(asdict(receipt), ensure_ascii=False, separators=(",", ":")).encode())


def check(text: str, keys: Mapping[str, Any]) -> Receipt:
    """What a receipt states, if one of the public `keys` (a JWK Set) signed it.

    Raises:
        BadReceipt: it is no receipt, was altered, or none of these keys signed it.
    """
    text = text.strip()
    if len(text) > _MOST:
        raise BadReceipt("the receipt does not hold: it is far too long")
    try:
        payload = signed(_TYPE, text, keys)
    except BadSignature as error:
        raise BadReceipt(f"the receipt does not hold: {error}") from None
    try:
        return Receipt(**json.loads(payload))
    except (TypeError, ValueError):
        raise BadReceipt("the receipt is signed, but states something else than this version knows") from None
