"""Receipts: signed statements that a content has arrived, checked by anybody without asking the service.

A receipt is a JWS in its compact form (RFC 7515), signed with Ed25519 (`EdDSA`, RFC 8037). Its payload is JSON: what
was delivered, to whom, when, and of which content. Public keys are given as a JWK Set (RFC 7517); a key's id is its
thumbprint (RFC 7638).
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

import jwt
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

_TYPE = "invio-receipt"
_ALGORITHM = "EdDSA"
_KEY_SIZE = 32  # bytes of a raw Ed25519 key
_MOST = 16 * 1024  # characters of a receipt that is looked at


class BadReceipt(ValueError):
    """A receipt does not hold; the message says why."""


@dataclass(frozen=True, slots=True)
class Receipt:
    """What a receipt states. Times in Unix seconds (UTC), `size` in bytes.

    `service` is the address of the service that signed it. `sha256` is hexadecimal, and None where the service does
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


@dataclass(frozen=True, slots=True)
class SigningKey:
    """A private Ed25519 key: its 32 raw bytes."""

    raw: bytes

    @classmethod
    def new(cls) -> SigningKey:
        """A key of the system's randomness."""
        return cls(Ed25519PrivateKey.generate().private_bytes_raw())

    def public(self) -> dict[str, str]:
        """The public half as a JWK, with its thumbprint for `kid`."""
        x = _base64url(Ed25519PrivateKey.from_private_bytes(self.raw).public_key().public_bytes_raw())
        required = {"crv": "Ed25519", "kty": "OKP", "x": x}
        thumbprint = hashlib.sha256(json.dumps(required, separators=(",", ":"), sort_keys=True).encode()).digest()
        return required | {"kid": _base64url(thumbprint), "use": "sig", "alg": _ALGORITHM}


def sign(receipt: Receipt, key: SigningKey) -> str:
    """The receipt as a compact JWS."""
    payload = json.dumps(asdict(receipt), ensure_ascii=False, separators=(",", ":")).encode()
    private = Ed25519PrivateKey.from_private_bytes(key.raw)
    return jwt.api_jws.encode(payload, private, _ALGORITHM, {"kid": key.public()["kid"], "typ": _TYPE})


def check(text: str, keys: Mapping[str, Any]) -> Receipt:
    """What a receipt states, if one of the public `keys` (a JWK Set) signed it.

    Raises:
        BadReceipt: it is no receipt, was altered, or none of these keys signed it.
    """
    text = text.strip()
    if len(text) > _MOST:
        raise BadReceipt("this is no receipt: it is far too long")
    try:
        head = jwt.get_unverified_header(text)
    except jwt.InvalidTokenError:
        raise BadReceipt("this is no receipt: it is not a JWS in its compact form") from None
    if head.get("typ") != _TYPE:
        raise BadReceipt(f"this is no receipt: its type is {head.get('typ')!r}, not {_TYPE!r}")
    key = _key_of(head.get("kid"), keys)
    try:
        payload = jwt.api_jws.decode(text, key, algorithms=[_ALGORITHM])
    except jwt.InvalidTokenError:
        raise BadReceipt("the receipt was altered, or the service did not sign it: its signature is wrong") from None
    try:
        return Receipt(**json.loads(payload))
    except (TypeError, ValueError):
        raise BadReceipt("the receipt is signed, but states something else than this version knows") from None


def _key_of(kid: object, keys: Mapping[str, Any]) -> Ed25519PublicKey:
    listed = keys.get("keys")
    for one in listed if isinstance(listed, list) else ():
        if isinstance(one, dict) and one.get("kid") == kid and one.get("crv") == "Ed25519":
            try:
                return Ed25519PublicKey.from_public_bytes(_raw(str(one.get("x"))))
            except (ValueError, UnsupportedAlgorithm):
                raise BadReceipt(f"the public key {kid!r} is damaged; fetch the public keys again") from None
    raise BadReceipt(f"none of the public keys is {kid!r}, which signed the receipt; use those of its own service")


def _raw(text: str) -> bytes:
    raw = base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
    if len(raw) != _KEY_SIZE:
        raise ValueError("an Ed25519 key has 32 bytes")
    return raw


def _base64url(raw: bytes) -> str:
    return base64.urlsafe_b64encode(raw).rstrip(b"=").decode("ascii")
