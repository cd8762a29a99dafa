"""Media types by name, and how a browser may show them.

One table: extension → media type. A second says which types may be shown, and under which policy.
"""

from __future__ import annotations

import re

OCTETS = "application/octet-stream"

_BY_EXTENSION = {
    "7z": "application/x-7z-compressed",
    "avif": "image/avif",
    "bin": OCTETS,
    "bmp": "image/bmp",
    "bz2": "application/x-bzip2",
    "css": "text/css",
    "csv": "text/csv",
    "dat": OCTETS,
    "doc": "application/msword",
    "docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
    "epub": "application/epub+zip",
    "exe": OCTETS,
    "flac": "audio/flac",
    "geojson": "application/geo+json",
    "gif": "image/gif",
    "gz": "application/gzip",
    "htm": "text/html",
    "html": "text/html",
    "ics": "text/calendar",
    "img": OCTETS,
    "iso": OCTETS,
    "jpeg": "image/jpeg",
    "jpg": "image/jpeg",
    "js": "text/javascript",
    "json": "application/json",
    "jsonl": "application/jsonl",
    "log": "text/plain",
    "m4a": "audio/mp4",
    "md": "text/markdown",
    "mjs": "text/javascript",
    "mkv": "video/matroska",
    "mov": "video/quicktime",
    "mp3": "audio/mpeg",
    "mp4": "video/mp4",
    "odp": "application/vnd.oasis.opendocument.presentation",
    "ods": "application/vnd.oasis.opendocument.spreadsheet",
    "odt": "application/vnd.oasis.opendocument.text",
    "ogg": "audio/ogg",
    "opus": "audio/opus",
    "parquet": "application/vnd.apache.parquet",
    "pdf": "application/pdf",
    "png": "image/png",
    "ppt": "application/vnd.ms-powerpoint",
    "pptx": "application/vnd.openxmlformats-officedocument.presentationml.presentation",
    "rtf": "application/rtf",
    "svg": "image/svg+xml",
    "tar": "application/x-tar",
    "tif": "image/tiff",
    "tiff": "image/tiff",
    "toml": "application/toml",
    "tsv": "text/tab-separated-values",
    "txt": "text/plain",
    "wasm": "application/wasm",
    "wav": "audio/wav",
    "webm": "video/webm",
    "webp": "image/webp",
    "xhtml": "application/xhtml+xml",
    "xls": "application/vnd.ms-excel",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "xml": "application/xml",
    "xz": "application/x-xz",
    "yaml": "application/yaml",
    "yml": "application/yaml",
    "zip": "application/zip",
    "zst": "application/zstd",
}

# How a browser may show a type. Types in neither table can only be saved.  `plain`: it is shown and runs nothing of the
# file's own. `media`: the same, but a player asks for it a second time, which an opaque origin may not. `scripted`: the
# type can hold script (PDF too, in the browser's viewer), so it is shown, when asked for, in a sandbox where none runs.
_SHOWN = {
    "application/json": "plain",
    "application/jsonl": "plain",
    "application/pdf": "scripted",
    "application/xhtml+xml": "scripted",
    "application/xml": "scripted",
    "audio/flac": "media",
    "audio/mp4": "media",
    "audio/mpeg": "media",
    "audio/ogg": "media",
    "audio/opus": "media",
    "audio/wav": "media",
    "image/avif": "plain",
    "image/bmp": "plain",
    "image/gif": "plain",
    "image/jpeg": "plain",
    "image/png": "plain",
    "image/svg+xml": "scripted",
    "image/webp": "plain",
    "text/csv": "plain",
    "text/html": "scripted",
    "text/markdown": "plain",
    "text/plain": "plain",
    "text/tab-separated-values": "plain",
    "text/xml": "scripted",
    "video/mp4": "media",
    "video/webm": "media",
}

# The Content-Security-Policy of each way. `sandbox` without a word that loosens it: no script, no form,
# no pop-up, and an opaque origin, so that nothing of this service is in reach of what is shown.
_LOCKED = "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:; form-action 'none'"
_POLICIES = {
    "plain": _LOCKED,
    "media": "default-src 'none'; style-src 'unsafe-inline'; media-src 'self'",
    "scripted": _LOCKED,
}


# RFC 6838 §4.2: names of types and subtypes.
ESSENCE = "[a-z0-9!#$&^_.+-]+/[a-z0-9!#$&^_.+-]+"
_ESSENCE = re.compile(ESSENCE + r"\Z", re.ASCII)
_LONGEST = 255  # characters


def essence(said: str) -> str | None:
    """The type and subtype that somebody says, in lower case and without parameters; None when it is no media type."""
    media_type = said.partition(";")[0].strip(" \t").lower()
    return media_type if len(media_type) <= _LONGEST and _ESSENCE.match(media_type) else None


# A type as an application writes it, with the one parameter that is looked at (RFC 9110 §8.3.1).
_CHARSET = "[A-Za-z0-9_.:+-]{1,40}"
_WRITTEN = re.compile(rf'([^;]+?)(?:[ \t]*;[ \t]*charset=(?:({_CHARSET})|"({_CHARSET})"))?', re.I)


def read_media_type(written: str) -> tuple[str, str | None]:
    """The type and subtype that an application writes, and the charset, where it names one.

    Raises:
        ValueError: it is no media type, or has other parameters.
    """
    found = _WRITTEN.fullmatch(written.strip(" \t"))
    media_type = None if found is None else essence(found[1])
    if found is None or media_type is None:
        raise ValueError(f"{written[:80]!r} is no media type; expected as in text/csv, or text/csv; charset=utf-8")
    return media_type, found[2] or found[3]


def media_type_by_name(name: str) -> str | None:
    """The media type that a file's name tells; None when it tells none."""
    return _BY_EXTENSION.get(name.rpartition(".")[2].lower()) if "." in name else None


def media_type_of(name: str) -> str:
    """The media type that a file's name tells; `application/octet-stream` when it tells none."""
    return media_type_by_name(name) or OCTETS


def may_be_inline(media_type: str) -> bool:
    """Whether a browser may be asked to show the type instead of saving it."""
    return media_type in _SHOWN


def security_policy(media_type: str) -> str:
    """The Content-Security-Policy that a file of the type is delivered with, shown or saved."""
    return _POLICIES[_SHOWN.get(media_type, "scripted")]


def is_text(media_type: str) -> bool:
    """Whether the type is text, whose characters need a charset to be read."""
    return media_type.startswith("text/")


def compresses(media_type: str) -> bool:
    """Whether a content of the type gets much smaller when it is compressed."""
    return is_text(media_type) or media_type in _COMPRESSES or media_type.endswith(("+json", "+xml"))


_COMPRESSES = frozenset(
    {"application/json", "application/jsonl", "application/xml", "application/toml", "application/yaml"}
)


def content_type(media_type: str, charset: str | None = "utf-8") -> str:
    """The Content-Type header's value: text gets its charset, where that is known."""
    return f"{media_type}; charset={charset}" if charset and is_text(media_type) else media_type


# What deflating again would not make smaller.
_COMPRESSED = frozenset(
    {
        "application/epub+zip",
        "application/gzip",
        "application/java-archive",
        "application/pdf",
        "application/vnd.rar",
        "application/x-7z-compressed",
        "application/x-bzip2",
        "application/x-rar-compressed",
        "application/x-xz",
        "application/zip",
        "application/zstd",
        "font/woff",
        "font/woff2",
    }
)
_UNCOMPRESSED_MEDIA = frozenset({"image/bmp", "image/svg+xml", "image/tiff", "image/x-icon", "audio/wav", "audio/midi"})


def is_compressed(media_type: str) -> bool:
    """Whether contents of the type are compressed already, mostly."""
    if media_type in _COMPRESSED or media_type.startswith("application/vnd.openxmlformats"):
        return True
    return media_type.startswith(("image/", "audio/", "video/")) and media_type not in _UNCOMPRESSED_MEDIA


# Of several extensions of a type, the one appended to a name without any. Plain text and bytes get none: README stays
# README.
_USUAL_EXTENSIONS = {"text/plain": "", "image/jpeg": "jpg", "text/html": "html", "image/tiff": "tif", OCTETS: ""}


def extension_of(media_type: str) -> str:
    """The usual extension of a type, with its dot; nothing where there is none."""
    usual = _USUAL_EXTENSIONS.get(media_type)
    if usual is None:
        usual = next((extension for extension, its_type in _BY_EXTENSION.items() if its_type == media_type), "")
    return f".{usual}" if usual else ""
