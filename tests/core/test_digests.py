import hashlib

import pytest

from invio.core.http.digests import digest_field, wants_sha256


@pytest.mark.parametrize(
    ("field", "wanted"),
    [
        ("sha-256=1", True),
        ("sha-512=3, sha-256=10", True),
        ("sha-256=0", False),  # RFC 9530 §4: not acceptable
        ("sha-256=0, sha-256=1", True),  # RFC 8941 §3.2: the last one counts
        ("sha-512=3", False),
        ("sha-256", False),
        ("sha-256=11", False),
        ("sha-256=x", False),
        ("sha-256=1;a", False),
        ("", False),
        (None, False),
    ],
)
def test_a_wish_for_sha256_is_read(field: str | None, wanted: bool) -> None:
    assert wants_sha256(field) is wanted


def test_a_digest_is_written_as_a_byte_sequence() -> None:
    # RFC 9530 appendix B has this content and its digest
    digest = hashlib.sha256(b'{"hello": "world"}\n').digest()
    assert digest_field(digest) == b"sha-256=:RK/0qy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:"
