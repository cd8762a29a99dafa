import pytest

from invio.core.http.media_types import media_type_of
from invio.core.http.sniffing import SNIFFED, charset_of, sniffed_media_type


@pytest.mark.parametrize(
    ("begin", "media_type"),
    [
        (b"\x89PNG\r\n\x1a\n....", "image/png"),
        (b"%PDF-1.7\n", "application/pdf"),
        (b"RIFF\x00\x00\x00\x00WAVEfmt ", "audio/wav"),
        (b"\x00\x00\x00\x18ftypmp42", "video/mp4"),
        (b"PK\x03\x04\x14\x00", "application/zip"),
        (b"x" * 257 + b"ustar\x0000", "application/x-tar"),
        (b"  \n<!DOCTYPE html><title>", "text/html"),
        (b"<SCRIPT>alert(1)", "text/html"),
        (b'<svg xmlns="http://www.w3.org/2000/svg">', "image/svg+xml"),
        (b'<?xml version="1.0"?><chart/>', "application/xml"),
        (b'<?xml version="1.0"?><svg/>', "image/svg+xml"),
        (b"<bodywork> is a word", "text/plain"),
        (b"Notice 4/2026: \xc3\x84nderung\n", "text/plain"),
        (("xÄ" + "Ä" * 3000).encode()[:SNIFFED], "text/plain"),
        ("Gezeiten".encode("utf-16"), "text/plain"),
        (b"\x80\x81\x82 not UTF-8", "application/octet-stream"),
        (b"text with a \x00 in it", "application/octet-stream"),
        (b"", "application/octet-stream"),
    ],
)  # fmt: skip
def test_the_first_bytes_tell_the_media_type(begin: bytes, media_type: str) -> None:
    assert sniffed_media_type(begin) == media_type


@pytest.mark.parametrize(
    ("begin", "charset"),
    [
        (b"plain", "utf-8"),
        ("Fahrrinne: Änderung".encode(), "utf-8"),
        ("Fahrrinne: Änderung".encode("latin-1"), None),
        ("潮".encode("utf-16"), "utf-16"),
        (b"", "utf-8"),
        (("x" + "潮" * 2000).encode()[:SNIFFED], "utf-8"),
        ("cut short 潮".encode()[:-1], None),  # the file ends in the middle of a character
    ],
)
def test_a_text_is_given_no_charset_that_it_has_not(begin: bytes, charset: str | None) -> None:
    assert charset_of(begin) == charset


def test_names_tell_what_they_tell() -> None:
    assert media_type_of("a.PDF") == "application/pdf"
    assert media_type_of("a.tar.gz") == "application/gzip"
    assert media_type_of("README") == media_type_of("a.unheard-of") == "application/octet-stream"
