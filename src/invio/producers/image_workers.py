"""The processes that make renditions: few, each ended when it takes too long, and begun anew when it has died."""

from __future__ import annotations

import json
import socket
import threading
from dataclasses import asdict

from invio.core.renditions import Rendition
from invio.producers.imaging import NotAnImage
from invio.workers.process import WorkerProcess

_MODULE = "invio.producers.imaging"
_ANSWER = 4096  # bytes


class ImagingFailed(OSError):
    """The service could not make the rendition, whatever the image."""


class ImageWorkers:
    """At most `processes`, started when they are first needed."""

    def __init__(self, processes: int, seconds: float, pixels: int) -> None:
        """`seconds` are for one image, the start of its process included; `pixels` the most that one may have."""
        self._free: list[WorkerProcess] = []
        self._turns = threading.BoundedSemaphore(processes)
        self._seconds, self._pixels = seconds, pixels
        self._lock = threading.Lock()

    def make(self, source: int, target: int, rendition: Rendition) -> str:
        """Makes a rendition of what one descriptor reads, and writes it to the other; gives its format.

        To be called by a thread: it waits.

        Raises:
            NotAnImage: it is none of which one can be made.
            ImagingFailed: it could not be written, as when the disk is full.
        """
        with self._turns:
            with self._lock:
                worker = self._free.pop() if self._free else None
            worker = worker or WorkerProcess.start(_MODULE)
            try:
                answer = self._asked(worker, source, target, rendition)
            except BaseException:
                worker.end()
                raise
            with self._lock:
                self._free.append(worker)
        if "refused" in answer:
            raise NotAnImage(answer["refused"])
        if "failed" in answer:
            raise ImagingFailed(int(answer["errno"]), answer["failed"])
        return answer["format"]

    def _asked(self, worker: WorkerProcess, source: int, target: int, rendition: Rendition) -> dict[str, str]:
        request = json.dumps({"rendition": asdict(rendition), "pixels": self._pixels}).encode()
        worker.socket.settimeout(self._seconds)
        answer = b""
        try:
            socket.send_fds(worker.socket, [request], [source, target])
            while not answer.endswith(b"\n"):
                piece = worker.socket.recv(_ANSWER)
                if not piece:  # a decoder brought the process down, or it was out of memory
                    raise NotAnImage("it is an image that cannot be read without harm")
                answer += piece
        except TimeoutError:
            raise NotAnImage(f"reading it takes longer than {self._seconds:g} seconds") from None
        except OSError:
            raise NotAnImage("it is an image that cannot be read without harm") from None
        return json.loads(answer)  # type: ignore[no-any-return]

    def close(self) -> None:
        """Ends the processes."""
        with self._lock:
            for worker in self._free:
                worker.end()
            self._free.clear()
