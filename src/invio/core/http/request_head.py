"""The head of a request, as the core sees it: a method and its header fields, decoded."""

from __future__ import annotations

from collections.abc import Iterable

# RFC 9110 §13.1, but If-Range, which is about the range alone.
_CONDITIONS = frozenset((b"if-match", b"if-none-match", b"if-modified-since", b"if-unmodified-since"))
# RFC 9530 §4
_WISHES = frozenset((b"want-content-digest", b"want-repr-digest"))
# Fields that make an answer depend on more than the file.
_PARTICULAR = _CONDITIONS | _WISHES | {b"if-range", b"range"}
# Those of them whose value can name an entity tag.
_NAMING = (b"if-match", b"if-none-match", b"if-range")


class RequestHead:
    """`method`, and fields by lower-case name. Repeated fields are joined with `, ` (RFC 9110 §5.3)."""

    __slots__ = ("_fields", "method")

    def __init__(self, method: str, fields: Iterable[tuple[bytes, bytes]]) -> None:
        """`fields` are (lower-case name, value) pairs of bytes, as ASGI gives them."""
        self.method = method
        joined: dict[bytes, bytes] = {}
        for name, value in fields:
            joined[name] = joined[name] + b", " + value if name in joined else value
        self._fields = joined

    def get(self, name: bytes) -> str | None:
        """The field's value without surrounding blanks, as Latin-1 text; None when it is absent."""
        value = self._fields.get(name)
        return None if value is None else value.decode("latin-1").strip(" \t")

    @property
    def particular(self) -> bool:
        """Whether it asks for a range, on a condition, or for a digest: for more than the plain file."""
        return not _PARTICULAR.isdisjoint(self._fields)

    @property
    def conditional(self) -> bool:
        """Whether it is to be answered on a condition."""
        return not _CONDITIONS.isdisjoint(self._fields)

    @property
    def wants_digest(self) -> bool:
        """Whether it wants a digest, of whatever kind."""
        return not _WISHES.isdisjoint(self._fields)

    def names_tag(self, tag: str) -> bool:
        """Whether a condition is about this entity tag (its opaque part)."""
        quoted = f'"{tag}"'
        return any(quoted in (self.get(name) or "") for name in _NAMING if name in self._fields)

    def __contains__(self, name: bytes) -> bool:
        return name in self._fields
