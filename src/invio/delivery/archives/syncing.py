"""Contents that can be read already, on their way to the disk.

A content is announced before anybody can find it (`expect`). Once it has its name, it is written (`begin`). What the
disk does not take is dropped, and an archive that is sending it breaks off. From then on archives wait for their
contents (`check`), until the disk has taken one again.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import Future, wait
from contextlib import suppress

from invio.workers.pool import Pool, PoolBusy

_LOOKS = 0.5  # seconds after which whoever waits for the disk looks whether to go on


class Syncing:
    """Writes contents to the disk behind those who send them."""

    def __init__(self, name: str, drop: Callable[[str], None]) -> None:
        """`name` is its threads'; `drop` removes a content, by name, that the disk does not take."""
        self._drop = drop
        self._pool = Pool(name, 2, waiting=30)
        self._pending: dict[str, Future[None]] = {}  # by name: what is being written, or could not be
        self._has_failed = False  # the disk, with the last of them

    def expect(self, name: str) -> Future[None]:
        """Announces a content that is about to lie there; give what this returns to `begin`, or to `give_up`."""
        synced: Future[None] = Future()
        self._pending[name] = synced
        return synced

    def begin(self, name: str, descriptor: int, synced: Future[None]) -> None:
        """Has a content be written to the disk, and its descriptor be closed.

        Where too many wait for that, as on a disk that hangs, it is left to the system.
        """
        try:
            self._pool.submit(self._sync, name, descriptor, synced)
        except PoolBusy:
            os.close(descriptor)
            self._end(name, synced)

    @staticmethod
    def give_up(synced: Future[None], error: OSError) -> None:
        """A content does not lie there after all."""
        synced.set_exception(OSError(error.errno, error.strerror))  # another error, which holds on to no content

    def forget_failure(self, name: str) -> None:
        """A content that the disk did not take once is there: another process has kept it."""
        future = self._pending.get(name)
        if future is not None and future.done():
            self._pending.pop(name, None)

    def check(self, name: str, on_wait: Callable[[], None] = lambda: None) -> None:
        """Looks whether a content is known not to be on the disk; waits for it, if the disk has just failed.

        `on_wait` is as in `settle`.

        Raises:
            OSError: it is not on the disk, and dropped.
        """
        future = self._pending.get(name)
        if future is not None and (self._has_failed or future.done()):
            self.settle(name, on_wait)

    def settle(self, name: str, on_wait: Callable[[], None] = lambda: None) -> None:
        """Waits until a content is on the disk.

        `on_wait` is called every so often meanwhile, and may raise to end it: a disk may hang.

        Raises:
            OSError: it is not on the disk, and dropped.
        """
        future = self._pending.get(name)
        if future is None:
            return
        while not wait([future], _LOOKS).done:
            on_wait()
        future.result()

    def _sync(self, name: str, descriptor: int, synced: Future[None]) -> None:
        """What could not be written is told to all who ask, until it is kept anew."""
        try:
            os.fdatasync(descriptor)
        except OSError as error:
            self._has_failed = True
            with suppress(OSError):  # a disk that fails may let nothing be removed either
                self._drop(name)
            synced.set_exception(error)
        else:
            self._has_failed = False
            self._end(name, synced)
        finally:
            os.close(descriptor)

    def _end(self, name: str, synced: Future[None]) -> None:
        if self._pending.get(name) is synced:  # and no other thread has made the same meanwhile
            self._pending.pop(name, None)
        synced.set_result(None)
