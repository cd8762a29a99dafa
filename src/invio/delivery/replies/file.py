"""`invio.FileReply`: a file on the disk as the response of a route."""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import Any

from starlette.background import BackgroundTask

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.http.replies import Representation
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.delivery.replies.account import OnEnd, OnProgress
from invio.delivery.replies.base import RouteReply, require_text, written_media_type
from invio.delivery.representation.digests import Digests
from invio.delivery.representation.negotiation import Kind, Negotiator
from invio.delivery.representation.presentation import Presentation
from invio.stores.directory import DirectoryStore
from invio.stores.single import found_at
from invio.stores.store import Found, Missing, StoreFault


class FileReply(RouteReply):
    """A file on the disk: `return invio.FileReply("report.pdf")`.

    A file that is not there is answered 404, and one that is altered while it is sent breaks the connection.
    """

    media_type = "application/octet-stream"

    def __init__(
        self,
        path: str | os.PathLike[str],
        *,
        within: str | os.PathLike[str] | None = None,
        name: str | None = None,
        media_type: str | None = None,
        disposition: str = "attachment",
        cache: str | None = None,
        speed: int | None = None,
        status_code: int = 200,
        headers: Mapping[str, str] | None = None,
        background: BackgroundTask | None = None,
        on_progress: OnProgress | None = None,
        on_end: OnEnd | None = None,
    ) -> None:
        """`within`: `path` is relative to that folder, may come from anybody, and never leaves it.

        `name` is what the file is saved as, its own when not given; `disposition` is `attachment` or `inline`;
        `cache` the value of Cache-Control; `speed` in bytes a second, of this one answer. With a `status_code` other
        than 200 ranges and conditions are not looked at.

        `on_progress(progress)` is called at most four times a second while the body is sent, and
        `on_end(progress, reason)` once, when what was sent has arrived (`reason` None), or why it did not; plain
        functions or coroutines. A progress has `bytes`, `total`, `percent`, `rate` and `seconds_left`: of this one
        answer's body, and of what the other side has acknowledged under `invio.ZeroCopyProtocol`.

        Raises:
            TypeError, ValueError: an argument is not of its kind.
        """
        super().__init__(disposition, cache, speed, headers, background, status_code, on_progress, on_end)
        require_text("name", name)
        self._kind = None if media_type is None else Kind(*written_media_type(media_type))
        self._path = _path("path", path)
        self._within = None if within is None else _path("within", within)
        self._presentation = Presentation(name=name)

    async def represent(self, head: RequestHead) -> Representation:
        """The file, as it is now."""
        found = self._found()
        offer = await _offering.offer(head, found, self._presentation, self._terms, kind=self._kind)
        return offer.representation

    def _found(self) -> Found:
        try:
            if self._within is None:
                return found_at(self._path)
            return folder_at(self._within).locate(parse_address(f"files/{self._path}"))
        except (Missing, BadAddress):
            raise Refusal("missing", "there is no such file") from None


def _path(name: str, given: Any) -> str:
    path = os.fspath(given) if isinstance(given, os.PathLike) else given
    if not isinstance(path, str):
        raise TypeError(f"{name} is {type(given).__name__}; expected a path, as a text or a pathlib.Path")
    return path


def _nothing_beside(address: Address) -> Found:
    raise Missing(str(address))


_offering = Negotiator(_nothing_beside, Digests())
_folders: dict[str, DirectoryStore] = {}


def folder_at(path: str) -> DirectoryStore:
    """A folder as a store, the same one each time. Raises Refusal: there is none."""
    folder = _folders.get(path)
    if folder is None:
        try:
            folder = _folders[path] = DirectoryStore("files", path)
        except StoreFault:
            raise Refusal("missing", "there is no such folder") from None
    return folder
