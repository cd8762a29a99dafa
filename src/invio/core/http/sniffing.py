"""What a file's first bytes tell of it: its media type when the name says nothing, the charset of a text.

Signatures are those that the formats' own specifications fix. A guess never makes a file more than
it is: what is recognised as markup is given its true type, and the table of `media_types` decides
how a browser may show it.
"""

from __future__ import annotations

import codecs

from invio.core.http.media_types import OCTETS

SNIFFED = 4096  # bytes that are looked at

# (offset, bytes) → media type; the first that fits counts.
_SIGNATURES: tuple[tuple[int, bytes, str], ...] = (
    (0, b"\x89PNG\r\n\x1a\n", "image/png"),
    (0, b"\xff\xd8\xff", "image/jpeg"),
    (0, b"GIF87a", "image/gif"),
    (0, b"GIF89a", "image/gif"),
    (0, b"II*\x00", "image/tiff"),
    (0, b"MM\x00*", "image/tiff"),
    (8, b"WEBP", "image/webp"),
    (8, b"WAVE", "audio/wav"),
    (4, b"ftypavif", "image/avif"),
    (4, b"ftypM4A ", "audio/mp4"),
    (4, b"ftypqt  ", "video/quicktime"),
    (4, b"ftyp", "video/mp4"),
    (0, b"\x1aE\xdf\xa3", "video/webm"),
    (0, b"OggS", "audio/ogg"),
    (0, b"fLaC", "audio/flac"),
    (0, b"ID3", "audio/mpeg"),
    (0, b"%PDF-", "application/pdf"),
    (0, b"PK\x03\x04", "application/zip"),
    (0, b"PK\x05\x06", "application/zip"),
    (0, b"\x1f\x8b\x08", "application/gzip"),
    (0, b"BZh", "application/x-bzip2"),
    (0, b"\xfd7zXZ\x00", "application/x-xz"),
    (0, b"7z\xbc\xaf\x27\x1c", "application/x-7z-compressed"),
    (0, b"\x28\xb5\x2f\xfd", "application/zstd"),
    (257, b"ustar", "application/x-tar"),
    (0, b"\x00asm", "application/wasm"),
    (0, b"PAR1", "application/vnd.apache.parquet"),
    (0, b"{\\rtf", "application/rtf"),
)
# Markup, after blanks and in any case. An element's name must end, so that `<pathology` is no `<p`.
_MARKUP: tuple[tuple[bytes, str], ...] = (
    (b"<!doctype html", "text/html"),
    (b"<html", "text/html"),
    (b"<head", "text/html"),
    (b"<body", "text/html"),
    (b"<script", "text/html"),
    (b"<svg", "image/svg+xml"),
)
_NO_TEXT = frozenset(range(32)) - {0x09, 0x0A, 0x0B, 0x0C, 0x0D, 0x1B}
_MARKS: tuple[tuple[bytes, str], ...] = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)


def sniffed_media_type(begin: bytes) -> str:
    """The media type that the first `SNIFFED` bytes of a file tell; `application/octet-stream` for none."""
    for offset, signature, media_type in _SIGNATURES:
        if begin.startswith(signature, offset):
            return media_type
    text = begin.removeprefix(codecs.BOM_UTF8).lstrip(b" \t\r\n").lower()
    for start, media_type in _MARKUP:
        if text.startswith(start) and text[len(start) : len(start) + 1] in (b">", b" ", b"\t", b"\r", b"\n", b"/"):
            return media_type
    if text.startswith(b"<?xml"):
        return "image/svg+xml" if b"<svg" in text else "text/html" if b"<html" in text else "application/xml"
    charset = charset_of(begin) if begin else None  # the empty file has nothing to tell
    # Controls that no text holds make it bytes, except in the charset that is half zeros.
    if charset is None or (charset == "utf-8" and not _NO_TEXT.isdisjoint(begin)):
        return OCTETS
    return "text/plain"


def charset_of(begin: bytes) -> str | None:
    """The charset of a text by its first bytes: by its mark, or UTF-8 when it is that; None when it is not."""
    for mark, charset in _MARKS:
        if begin.startswith(mark):
            return charset
    try:
        # The bytes may end in the middle of a character.
        codecs.getincrementaldecoder("utf-8")().decode(begin, final=len(begin) < SNIFFED)
    except UnicodeDecodeError:
        return None
    return "utf-8"
