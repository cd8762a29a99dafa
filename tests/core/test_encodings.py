import pytest

from invio.core.http.codings import choose_coding

OURS = ("zstd", "gzip")


@pytest.mark.parametrize(
    ("field", "chosen"),
    [
        (None, None),  # nothing is asked for
        ("", None),
        ("gzip", "gzip"),
        ("GZIP", "gzip"),
        ("x-gzip", "gzip"),
        ("gzip, deflate, br, zstd", "zstd"),
        ("gzip, zstd;q=0.9", "gzip"),
        ("gzip;q=0.001", "gzip"),
        ("gzip;q=0", None),
        ("br, deflate", None),
        ("*", "zstd"),
        ("*;q=0.5, zstd;q=0", "gzip"),
        ("*;q=0", None),
        ("identity", None),
        ("gzip;q=0.5, identity", None),
        ("gzip, identity;q=0.5", "gzip"),
        ("gzip;q=0.5, identity;q=0.5", "gzip"),
        ("gzip;q=2", None),  # malformed, so it asks for nothing
        ("gzip zstd", None),
        ("gzip;level=9", None),
        (" gzip ; Q=0.5 ,, ", "gzip"),
    ],
)
def test_the_coding_is_the_one_liked_best(field: str | None, chosen: str | None) -> None:
    assert choose_coding(field, OURS) == chosen
    assert choose_coding(field, ()) is None
