"""Compression of content made on demand: gzip, and zstd where its library is installed."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Iterator
from dataclasses import dataclass
from importlib.util import find_spec
from typing import Any

from invio.stores.sources import Made
from invio.workers.pool import Pool

# RFC 1952 around deflate: 16 on top of the window of 2^15 bytes.
_GZIP = 16 + 15
_ZSTD_LEVEL = 3


# Each library is loaded when it is first needed.
def _gzip() -> Any:
    from isal import isal_zlib

    return isal_zlib.compressobj(level=isal_zlib.ISAL_DEFAULT_COMPRESSION, wbits=_GZIP)


def _zstd() -> Any:
    import zstandard

    return zstandard.ZstdCompressor(level=_ZSTD_LEVEL).compressobj()


# zstd's library is an extra; without it zstd is not offered.
_COMPRESSORS: dict[str, Callable[[], Any]] = {"zstd": _zstd} if find_spec("zstandard") else {}
_COMPRESSORS["gzip"] = _gzip

# Best first.
CODINGS = tuple(_COMPRESSORS)


@dataclass(frozen=True, slots=True)
class Compressed:
    """A content made on demand, in a coding."""

    made: Made
    coding: str

    @property
    def pool(self) -> Pool | None:
        """Whose threads make it."""
        return self.made.pool

    def chunks(self) -> Iterator[bytes] | AsyncIterator[bytes]:
        """Pieces of the compressed content, which are given as they come to be."""
        pieces = self.made.chunks()
        if isinstance(pieces, AsyncIterator):
            return self._compressed_async(pieces)
        return _CompressedPieces(pieces, _COMPRESSORS[self.coding]())

    async def _compressed_async(self, pieces: AsyncIterator[bytes]) -> AsyncIterator[bytes]:
        compressor = _COMPRESSORS[self.coding]()
        async for piece in pieces:
            if compressed := compressor.compress(piece):
                yield compressed
        yield compressor.flush()


class _CompressedPieces(Iterator[bytes]):
    """Pieces in a coding; cancelled and closed as those that they are made of."""

    def __init__(self, pieces: Iterator[bytes], compressor: Any) -> None:
        self._pieces = pieces
        self._compressor: Any = compressor

    def __next__(self) -> bytes:
        if self._compressor is None:
            raise StopIteration
        for piece in self._pieces:
            if compressed := self._compressor.compress(piece):
                return compressed  # type: ignore[no-any-return]
        compressor, self._compressor = self._compressor, None
        return compressor.flush()  # type: ignore[no-any-return]

    def cancel(self) -> None:
        cancel = getattr(self._pieces, "cancel", None)
        if cancel is not None:
            cancel()

    def close(self) -> None:
        close = getattr(self._pieces, "close", None)
        if close is not None:
            close()
