"""One declaration of files made on demand: a path with parameters, and what makes the content for their values."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from invio.core.files import Caller
from invio.producers.formats import FORMATS, FormatOptions
from invio.producers.parameters import BadTemplate, Parameter, Template, Typed, read_template
from invio.workers.pool import Pool

FORMAT = "format"  # what stands in a path for the format, where there are several
_PIECE = 64 * 1024  # bytes of a text or of bytes that a function gives as one

Values = Mapping[str, object]


@dataclass(frozen=True)
class MadeFile:
    """Files of one template. `rows` gives rows, or with a `media_type` bytes, for the values of its parameters.

    `name` is a template of what it is saved under. `keep` is for how many seconds a content is good for others who ask;
    `personal`: it is each recipient's own, and `rows` is given who asks as `recipient` and `groups`. `estimate` is how
    many bytes one has, about. `pool` has the threads that make it; None: those of its store.
    """

    template: Template
    rows: Callable[[Values], Any]
    formats: tuple[str, ...]
    media_type: str | None = None
    name: str | None = None
    keep: float = 0.0
    personal: bool = False
    estimate: int | None = None
    options: FormatOptions = field(default_factory=FormatOptions)
    pool: Pool | None = None

    def format_of(self, given: Mapping[str, str]) -> str | None:
        """The format of a file with these values; None for bytes as they are."""
        return None if self.media_type is not None else given.get(FORMAT, self.formats[0])

    def media_type_of(self, given: Mapping[str, str]) -> str:
        """The media type of a file with these values."""
        word = self.format_of(given)
        return str(self.media_type) if word is None else FORMATS[word].media_type

    def name_of(self, given: Mapping[str, str]) -> str | None:
        """What a file with these values is saved under; None: as its path says."""
        if self.name is None:
            return None
        name = self.name
        for one, value in given.items():
            name = name.replace("{" + one + "}", value)
        return name

    def maker(self, given: Mapping[str, str], caller: Caller | None = None) -> Callable[[], Iterator[bytes]]:
        """What gives the pieces of a file with these values, each time anew."""
        typed: dict[str, Typed | tuple[str, ...] | None] = {
            name: value for name, value in self.template.typed(given).items() if name != FORMAT
        }
        if self.personal:
            typed["recipient"] = None if caller is None else caller.recipient
            typed["groups"] = () if caller is None else tuple(sorted(caller.groups))
        word = self.format_of(given)
        return lambda: MadePieces(lambda: self.rows(typed), word, self.options)


def made_template(
    text: str, parameters: Mapping[str, Parameter], formats: tuple[str, ...]
) -> tuple[Template, tuple[str, ...]]:
    """The template of a path, and the formats that its files have: those named, or the one that its end says.

    Raises:
        BadTemplate.
    """
    for word in formats:
        if word not in FORMATS:
            raise BadTemplate(f"there is no format {word!r}; expected {', '.join(FORMATS)}")
    has_place = "{" + FORMAT + "}" in text
    if has_place and not formats:
        raise BadTemplate('the path has {format}, and no formats are named; give formats = ["csv", …]')
    if len(formats) > 1 and not has_place:
        raise BadTemplate("there are several formats; write {format} where the path says which")
    if has_place:
        parameters = {**parameters, FORMAT: Parameter(FORMAT, choices=formats)}
    template = read_template(text, parameters)
    if formats:
        return template, formats
    ending = text.rpartition(".")[2]
    return template, (ending if ending in FORMATS else "csv",)


class MadePieces(Iterator[bytes]):
    """A content, piece by piece: nothing of it is made before the first piece is taken."""

    def __init__(self, begin: Callable[[], Any], word: str | None, options: FormatOptions) -> None:
        self._begin, self._word, self._options = begin, word, options
        self._source: Any = None
        self._pieces: Iterator[bytes] | None = None

    def __next__(self) -> bytes:
        if self._pieces is None:
            self._source = self._begin()
            self._pieces = self._formed(self._source)
        return next(self._pieces)

    def _formed(self, source: Any) -> Iterator[bytes]:
        if source is None:
            raise TypeError(
                "the function gave nothing; expected " + ("rows" if self._word else "bytes, or pieces of them")
            )
        if self._word is not None:
            return FORMATS[self._word].pieces(source, self._options)
        return _bytes_of(source)

    def cancel(self) -> None:
        """Cancels a pending piece; called from another thread."""
        cancel = getattr(self._source, "cancel", None)
        if cancel is not None:
            cancel()

    def close(self) -> None:
        """Closes the rows and their source."""
        for one in (self._pieces, self._source):
            close = getattr(one, "close", None)
            if close is not None:
                close()


def _bytes_of(source: bytes | bytearray | str | Iterable[bytes | str]) -> Iterator[bytes]:
    """What a function gives that makes bytes: all at once, or in pieces."""
    if isinstance(source, str):
        source = source.encode()
    if isinstance(source, bytes | bytearray):
        data = bytes(source)
        yield from (data[at : at + _PIECE] for at in range(0, len(data), _PIECE))
        return
    for piece in source:
        if isinstance(piece, str):
            yield piece.encode()
        elif isinstance(piece, bytes | bytearray | memoryview):
            yield bytes(piece)
        else:
            raise TypeError(f"the function gave a piece that is {type(piece).__name__}; expected bytes")
