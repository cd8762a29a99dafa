"""Media types by name, and which of them a browser may show from this origin.

One table: extension → media type. A second says which types may be inline; a type that is in
neither is offered for saving only, as bytes.
"""

from __future__ import annotations

OCTETS = "application/octet-stream"

_BY_EXTENSION = {
    "7z": "application/x-7z-compressed",
    "avif": "image/avif",
    "bmp": "image/bmp",
    "bz2": "application/x-bzip2",
    "css": "text/css",
    "csv": "text/csv",
    "doc": "application/msword",
    "docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
    "epub": "application/epub+zip",
    "flac": "audio/flac",
    "geojson": "application/geo+json",
    "gif": "image/gif",
    "gz": "application/gzip",
    "htm": "text/html",
    "html": "text/html",
    "ics": "text/calendar",
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
    "xls": "application/vnd.ms-excel",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "xml": "application/xml",
    "xz": "application/x-xz",
    "yaml": "application/yaml",
    "yml": "application/yaml",
    "zip": "application/zip",
    "zst": "application/zstd",
}

# Types that a browser shows without running anything of the file's own. PDF stands among them
# because browsers show it in a viewer of their own, outside this origin; it is sandboxed besides.
_INLINE = frozenset(
    {
        "application/json",
        "application/pdf",
        "audio/flac",
        "audio/mp4",
        "audio/mpeg",
        "audio/ogg",
        "audio/opus",
        "audio/wav",
        "image/avif",
        "image/bmp",
        "image/gif",
        "image/jpeg",
        "image/png",
        "image/webp",
        "text/csv",
        "text/markdown",
        "text/plain",
        "text/tab-separated-values",
        "video/mp4",
        "video/webm",
    }
)


def media_type_of(name: str) -> str:
    """The media type that a file's name tells; `application/octet-stream` when it tells none."""
    return _BY_EXTENSION.get(name.rpartition(".")[2].lower(), OCTETS) if "." in name else OCTETS


def may_be_inline(media_type: str) -> bool:
    """Whether a browser may be asked to show the type, sandboxed, instead of saving it."""
    return media_type in _INLINE


def content_type(media_type: str) -> str:
    """The Content-Type header's value: text gets its charset (UTF-8)."""
    return f"{media_type}; charset=utf-8" if media_type.startswith("text/") else media_type
