"""What the service signs: compact and detached JWS (RFC 7515, RFC 7797) with Ed25519 (`EdDSA`, RFC 8037).

Public keys are given as a JWK Set (RFC 7517); a key's id is its thumbprint (RFC 7638). The type in a signature's head
(`typ`) says what was signed, so that one kind of statement is never taken for another.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import jwt
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

_ALGORITHM = "EdDSA"
_KEY_SIZE = 32  # bytes of a raw Ed25519 key


class BadSignature(ValueError):
    """What was signed does not hold; the message says why."""


@dataclass(frozen=True, slots=True)
class SigningKey:
    """A private Ed25519 key: its 32 raw bytes."""

    raw: bytes

    @classmethod
    def new(cls) -> SigningKey:
        """A key of the system's randomness, whose id is not taken for an option when it is typed."""
        while True:
            key = cls(Ed25519PrivateKey.generate().private_bytes_raw())
            if not key.public()["kid"].startswith("-"):
                return key

    def public(self) -> dict[str, str]:
        """The public half as a JWK, with its thumbprint for `kid`."""
        x = _base64url(Ed25519PrivateKey.from_private_bytes(self.raw).public_key().public_bytes_raw())
        required = {"crv": "Ed25519", "kty": "OKP", "x": x}
        thumbprint = hashlib.sha256(json.dumps(required, separators=(",", ":"), sort_keys=True).encode()).digest()
        return required | {"kid": _base64url(thumbprint), "use": "sig", "alg": _ALGORITHM}

    def sign(self, kind: str, payload: bytes, *, detached: bool = False) -> str:
        """A compact JWS of the type `kind`; `detached` leaves the payload out, for it travels by itself."""
        private = Ed25519PrivateKey.from_private_bytes(self.raw)
        head = {"kid": self.public()["kid"], "typ": kind}
        return jwt.api_jws.encode(payload, private, _ALGORITHM, head, is_payload_detached=detached)


def signed(kind: str, text: str, keys: Mapping[str, Any], payload: bytes | None = None) -> bytes:
    """The payload of a JWS, if one of the public `keys` (a JWK Set) signed it as `kind`.

    `payload` is what a detached one is for.

    Raises:
        BadSignature: it is none, of another kind, was altered, or none of these keys signed it.
    """
    try:
        head = jwt.get_unverified_header(text)
    except jwt.InvalidTokenError:
        raise BadSignature("it is not a JWS in its compact form") from None
    if head.get("typ") != kind:
        raise BadSignature(f"its type is {head.get('typ')!r}, not {kind!r}")
    key = _key_of(head.get("kid"), keys)
    try:
        return bytes(jwt.api_jws.decode(text, key, algorithms=[_ALGORITHM], detached_payload=payload))
    except jwt.InvalidTokenError:
        raise BadSignature("it was altered, or the service did not sign it: its signature is wrong") from None


def _key_of(kid: object, keys: Mapping[str, Any]) -> Ed25519PublicKey:
    listed = keys.get("keys")
    for one in listed if isinstance(listed, list) else ():
        if isinstance(one, dict) and one.get("kid") == kid and one.get("crv") == "Ed25519":
            try:
                return Ed25519PublicKey.from_public_bytes(_raw(str(one.get("x"))))
            except (ValueError, UnsupportedAlgorithm):
                raise BadSignature(f"the public key {kid!r} is damaged; fetch the public keys again") from None
    raise BadSignature(f"none of the public keys is {kid!r}, which signed it; use those of its own service")


def _raw(text: str) -> bytes:
    raw = base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
    if len(raw) != _KEY_SIZE:
        raise ValueError("an Ed25519 key has 32 bytes")
    return raw


def _base64url(raw: bytes) -> str:
    return base64.urlsafe_b64encode(raw).rstrip(b"=").decode("ascii")
