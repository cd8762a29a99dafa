"""Who else on the machine may read, or write, what is the service's own: keys, records, settings, contents."""

from __future__ import annotations

import os
import socket
import stat
from collections.abc import Iterator
from pathlib import Path

from invio.service.settings import Settings
from invio.service.store_settings import ManagedSettings

_OTHERS = stat.S_IRWXG | stat.S_IRWXO


def bind_unix(listener: socket.socket, path: str, mode: int) -> None:
    """Binds a Unix socket; nobody has more rights on its file than `mode` at any moment.

    The umask is left as it is: it is the whole process's, and a folder that another thread makes meanwhile would be
    made with it. Raises OSError.
    """
    os.fchmod(listener.fileno(), mode)  # Linux makes the file with the rights of the socket, less the umask's
    listener.bind(path)
    os.chmod(path, mode)


def exposed(settings: Settings) -> list[str]:
    """What others have rights on, in words: the file, its mode, and what to do."""
    return [
        f"{path} has the mode {mode:04o}: others on this machine have rights on it; chmod {'700' if folder else '600'}"
        for path, mode, folder in _looked_at(settings)
        if mode & _OTHERS
    ]


def _looked_at(settings: Settings) -> Iterator[tuple[Path, int, bool]]:
    service = settings.service
    paths = [settings.path(service.keys), settings.path(service.data), settings.database]
    if settings.file is not None:
        paths.append(settings.file)
    paths += [settings.path(store.root) for store in settings.stores.values() if isinstance(store, ManagedSettings)]
    for path in paths:
        try:
            status = path.stat()
        except OSError:
            continue
        yield path, stat.S_IMODE(status.st_mode), stat.S_ISDIR(status.st_mode)
