"""Receipts: what is signed is what is read, and nothing else is taken for it."""

from __future__ import annotations

import base64
import dataclasses
import json

import jwt
import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.receipts import BadReceipt, Receipt, check, sign
from invio.core.signing import SigningKey

# RFC 8037, appendix A.1 to A.3: a key, its public half, and its thumbprint.
RAW = base64.urlsafe_b64decode("nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A=")
X = "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"
THUMBPRINT = "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k"
KEY, OTHER = SigningKey(RAW), SigningKey(bytes(32))
KEYS = {"keys": [OTHER.public(), KEY.public()]}
STATED = Receipt(
    service="https://files.example",
    transfer="01a22063ebe752f660f4",
    address="charts/Södra – 潮.pdf",
    version=2,
    size=160639,
    etag="e5acd7e637713e487e536763",
    sha256="d3" * 32,
    recipient="pilot-7",
    made_for=None,
    link=None,
    began=1795839749.095,
    arrived=1795839749.102,
    signed=1795839753.8,
)


def test_keys_are_those_of_the_standard() -> None:
    public = KEY.public()
    assert public == {"kty": "OKP", "crv": "Ed25519", "x": X, "kid": THUMBPRINT, "use": "sig", "alg": "EdDSA"}
    assert SigningKey.new() != SigningKey.new()
    ids = {SigningKey.new().public()["kid"] for _ in range(400)}  # of which six would begin so
    assert len(ids) == 400
    assert not any(kid.startswith("-") for kid in ids), "it would be taken for an option"


def test_what_was_signed_is_read_and_by_an_independent_reader_too() -> None:
    text = sign(STATED, KEY)
    assert check(f"{text}\n", KEYS) == STATED
    read = jwt.api_jws.decode(text, jwt.PyJWK(KEY.public()), algorithms=["EdDSA"])
    assert json.loads(read) == dataclasses.asdict(STATED)


@given(place=st.integers(0, 10_000), letter=st.sampled_from("Aa0_-.=x"))
def test_one_altered_letter_is_enough(place: int, letter: str) -> None:
    text = sign(STATED, KEY)
    place %= len(text)
    altered = text[:place] + letter + text[place + 1 :]
    try:
        read = check(altered, KEYS)
    except BadReceipt:
        return
    # Of the last letter of each part some bits stand for nothing.
    assert altered == text or (read == STATED and len(text) - place <= 1)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "not a JWS"),
        ("a.b.c", "not a JWS"),
        ("ü" * 20_000, "far too long"),
        (jwt.encode({"sub": "pilot-7"}, bytes(32), "HS256", {"kid": THUMBPRINT}), "its type is 'JWT'"),
        (jwt.encode({}, bytes(32), "HS256", {"kid": THUMBPRINT, "typ": "invio-receipt"}), "altered"),
        (jwt.api_jws.encode(b"{}", "", "none", {"kid": THUMBPRINT, "typ": "invio-receipt"}), "altered"),
        (sign(STATED, SigningKey(b"\x01" * 32)), "none of the public keys"),
    ],
)
def test_what_is_none_is_told_apart(text: str, says: str) -> None:
    with pytest.raises(BadReceipt, match=says):
        check(text, KEYS)


@pytest.mark.parametrize("keys", [{}, {"keys": None}, {"keys": ["x", {"kid": 7}]}])
def test_keys_that_are_none_prove_nothing(keys: dict[str, object]) -> None:
    with pytest.raises(BadReceipt, match="none of the public keys"):
        check(sign(STATED, KEY), keys)


def test_a_damaged_key_is_named() -> None:
    with pytest.raises(BadReceipt, match="is damaged"):
        check(sign(STATED, KEY), {"keys": [KEY.public() | {"x": "AAAA"}]})


def test_what_a_later_version_states_is_not_guessed_at() -> None:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    private = Ed25519PrivateKey.from_private_bytes(RAW)
    later = json.dumps(dataclasses.asdict(STATED) | {"more": 1}).encode()
    text = jwt.api_jws.encode(later, private, "EdDSA", {"kid": THUMBPRINT, "typ": "invio-receipt"})
    with pytest.raises(BadReceipt, match="states something else"):
        check(text, KEYS)
