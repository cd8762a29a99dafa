"""How deliveries of webhooks are signed: a detached JWS (`core/signing.py`) over the body, in a header field."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from invio.core.signing import SigningKey, signed

_TYPE = "invio-webhook"
FIELD = "Invio-Signature"


def signature_of(body: bytes, key: SigningKey) -> str:
    """The value of the field `Invio-Signature`."""
    return key.sign(_TYPE, body, detached=True)


def check(body: bytes, signature: str, keys: Mapping[str, Any]) -> dict[str, Any]:
    """What a delivery tells, if one of the public `keys` (a JWK Set) signed it. For whoever receives it.

    Raises:
        BadSignature: it was altered, or none of these keys signed it.
    """
    told: dict[str, Any] = json.loads(signed(_TYPE, signature, keys, body))
    return told
