"""Invio delivers files: ranges, archives, expiring links, access rules, and a truthful account.

For one's own FastAPI or Starlette application: `FileReply`, `StreamReply` and `BundleReply` are
responses for any route, `mount` puts the whole delivery inside the application, and a server that
runs it with `http=invio.ZeroCopyProtocol` sends files without reading them. `LinkMaker` seals links. A function that
rules ask gets a `CheckRequest`, and may give a `CheckResult`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from invio.core.version import VERSION as __version__

if TYPE_CHECKING:
    from invio.core.meter import Progress
    from invio.core.rules.external_checks import CheckRequest, CheckResult
    from invio.delivery.replies.bundle import BundleReply
    from invio.delivery.replies.file import FileReply
    from invio.delivery.replies.stream import StreamReply
    from invio.delivery.sending.uvicorn.protocol import ZeroCopyProtocol
    from invio.service.link_maker import LinkMaker
    from invio.service.mounting import Allowed, Mounted, mount

__all__ = [
    "Allowed",
    "BundleReply",
    "CheckRequest",
    "CheckResult",
    "FileReply",
    "LinkMaker",
    "Mounted",
    "Progress",
    "StreamReply",
    "ZeroCopyProtocol",
    "__version__",
    "mount",
]

# Where each name is. They are imported when they are asked for: the core and the client need none of them.
_PLACES = {
    "Allowed": "invio.service.mounting",
    "CheckResult": "invio.core.rules.external_checks",
    "CheckRequest": "invio.core.rules.external_checks",
    "BundleReply": "invio.delivery.replies.bundle",
    "LinkMaker": "invio.service.link_maker",
    "Mounted": "invio.service.mounting",
    "Progress": "invio.core.meter",
    "FileReply": "invio.delivery.replies.file",
    "StreamReply": "invio.delivery.replies.stream",
    "ZeroCopyProtocol": "invio.delivery.sending.uvicorn.expected",
    "mount": "invio.service.mounting",
}


def __getattr__(name: str) -> Any:
    place = _PLACES.get(name)
    if place is None:
        raise AttributeError(f"module 'invio' has no attribute {name!r}")
    from importlib import import_module

    return getattr(import_module(place), name)
