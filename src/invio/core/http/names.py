"""Names offered to the person who saves a file: cleaned, and written into Content-Disposition.

A name comes from an address, a link or a query, and ends in somebody's download folder. What
could make it something else there (path parts, control and direction-changing characters, device
names, trailing dots) is taken out here, once, for files, bundles and their entries.
"""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache
from urllib.parse import quote

NAME_LIMIT = 200  # characters; most file systems take 255 bytes

# Controls, format characters that change direction or hide (Unicode Cf: U+202E and its like, U+200B …).
_UNWANTED_CATEGORIES = {"Cc", "Cf", "Cs", "Co", "Zl", "Zp"}
# What one system or another takes for a separator, a stream, a wildcard or a pipe.
_UNWANTED_MARKS = re.compile(r'[\\/:*?"<>|]')
_DEVICES = re.compile(r"(?:con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³])(?=\.|$)", re.IGNORECASE)
# Most names, and nothing that would be altered.
_SAFE_AS_IT_IS = re.compile(
    r"(?!(?:con|prn|aux|nul|com[0-9]|lpt[0-9])(?:\.|\Z))[a-z0-9_](?:[a-z0-9._ ()+,=@~-]{0,150}[a-z0-9_])?\Z",
    re.IGNORECASE | re.ASCII,
)
# RFC 8187 §3.2.1, attr-char.
_ATTR_SAFE = "!#$&+-.^_`|~"


def safe_name(name: str, fallback: str = "download") -> str:
    """The name as any system may save it: one segment, visible, not a device, not hidden.

    Idempotent; the extension outlives a cut to `NAME_LIMIT` characters.
    """
    return name if _SAFE_AS_IT_IS.match(name) else _made_safe(name, fallback)


@lru_cache(maxsize=4096)
def _made_safe(name: str, fallback: str) -> str:
    text = unicodedata.normalize("NFC", name)
    text = "".join(mark for mark in text if unicodedata.category(mark) not in _UNWANTED_CATEGORIES)
    text = _UNWANTED_MARKS.sub("_", text).strip().rstrip(". ")
    text = text.lstrip(". ") or fallback
    if _DEVICES.match(text):
        text = "_" + text
    if len(text) > NAME_LIMIT:
        _, dot, extension = text.rpartition(".")
        keep = dot + extension if dot and len(extension) <= 16 else ""
        text = text[: NAME_LIMIT - len(keep)].rstrip(". ") + keep
    return text


def ascii_name(name: str) -> str:
    """A name for programs that read no RFC 8187: accents dropped, the rest replaced by `_`."""
    plain = unicodedata.normalize("NFKD", name)
    plain = "".join(mark for mark in plain if not unicodedata.combining(mark))
    plain = "".join(mark if mark.isascii() and mark.isprintable() else "_" for mark in plain)
    # Several replacements in a row become one.
    plain = re.sub(r"_{2,}", "_", plain.replace("%", "_"))
    return safe_name(plain)


@lru_cache(maxsize=4096)
def content_disposition(kind: str, name: str) -> str:
    """The header's value: RFC 6266, with `filename*` (RFC 8187) where ASCII does not do.

    `kind` is `attachment` or `inline`; the name is cleaned first.
    """
    clean = safe_name(name)
    plain = clean if clean.isascii() and "%" not in clean else ascii_name(clean)
    # RFC 6266 appendix D: no backslash and no quote in the quoted form; safe_name left none.
    value = f'{kind}; filename="{plain}"'
    if plain != clean:
        value += f"; filename*=UTF-8''{quote(clean, safe=_ATTR_SAFE)}"
    return value
