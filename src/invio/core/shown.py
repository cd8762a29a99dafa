"""Texts that strangers wrote, shown to people: nothing in them commands the terminal or turns the line round.

Control characters move cursors and clear screens (ECMA-48), directional ones let a name read as another
(Unicode TR 36 §2.6), and line separators end lines where no line ends.
"""

from __future__ import annotations

import re

# C0 and DEL and C1; soft hyphen; zero-width and directional marks, separators, isolates; the byte order mark.
_ODD = re.compile("[\x00-\x1f\x7f-\x9f\xad\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ud800-\udfff]")


def shown(text: str, keep: str = "") -> str:
    r"""The text with what is odd in it written as an escape (`\x1b`, `\u202e`); `keep` are signs to leave."""
    if text.isascii() and text.isprintable():
        return text
    return _ODD.sub(lambda found: found[0] if found[0] in keep else _escaped(found[0]), text)


def _escaped(sign: str) -> str:
    return f"\\x{ord(sign):02x}" if ord(sign) < 256 else f"\\u{ord(sign):04x}"
