"""What whoever puts a file expects to be there."""

from __future__ import annotations

import hashlib

import pytest

from invio.core.addresses import parse_address
from invio.core.files import FileFacts
from invio.core.http.digests import content_tag, said_sha256
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.core.versions import Putting, version_tag

SHA256 = hashlib.sha256(b"one").digest()
TAG, BY_CONTENT = version_tag(SHA256), content_tag(SHA256)
OLD, NEW = "Wed, 14 Jan 2026 08:00:00 GMT", "Fri, 16 Jan 2026 08:00:00 GMT"
MODIFIED = 1768464000.5  # 2026-01-15


@pytest.mark.parametrize(
    ("field", "value", "there", "absent"),
    [
        ("if-none-match", "*", False, True),
        ("if-none-match", f'"{TAG}"', False, True),
        ("if-none-match", f'W/"{BY_CONTENT}"', False, True),
        ("if-none-match", '"x"', True, True),
        ("if-match", "*", True, False),
        ("if-match", f'"{TAG}"', True, False),
        ("if-match", f'"x", "{BY_CONTENT}"', True, False),
        ("if-match", f'W/"{TAG}"', False, False),
        ("if-match", '"x"', False, False),
        ("if-unmodified-since", OLD, False, True),
        ("if-unmodified-since", NEW, True, True),
        ("if-modified-since", NEW, True, True),  # RFC 9110 §13.1.3: not for this method
    ],
)
def test_a_precondition_holds_for_what_is_there(field: str, value: str, there: bool, absent: bool) -> None:
    putting = Putting(RequestHead("PUT", [(field.encode(), value.encode())]), lambda _: SHA256)
    address = parse_address("models/a")
    for facts, holds in ((FileFacts(address, 3, MODIFIED, TAG), there), (None, absent)):
        if holds:
            putting.check(address, facts)
            continue
        with pytest.raises(Refusal) as refused:
            putting.check(address, facts)
        assert refused.value.reason.word == "precondition"


def test_a_digest_is_read_from_its_field() -> None:
    assert said_sha256("sha-512=:AA==:, sha-256=:dpL02E9uS8Pp/9hjbMOX4yIY6aVPUwMjKnkPM1VUlY0=:") is not None
    assert said_sha256(None) is said_sha256("md5=:AA==:") is None
    for wrong in ("sha-256=AA==", "sha-256=:AA==:", "sha-256=:%%:", "sha-256"):
        with pytest.raises(ValueError, match="32 bytes in base64"):
            said_sha256(wrong)
