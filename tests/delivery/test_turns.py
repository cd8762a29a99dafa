"""Requests without a task of their own: begun at once, and given one where they wait."""

from __future__ import annotations

import asyncio
import json
import socket
import threading
from collections.abc import Callable, Coroutine
from contextlib import suppress
from typing import Any

import pytest

from invio.delivery.sending.eager import ensure_task, in_thread, start_eagerly
from tests.running import Service


def outside_a_task(*work: Callable[[], object]) -> None:
    """Calls each in a turn of an event loop that is no task's; raises what any of them raises."""

    async def run() -> None:
        loop = asyncio.get_running_loop()
        for call in work:
            done: asyncio.Future[None] = loop.create_future()

            def turn(call: Callable[[], object] = call, done: asyncio.Future[None] = done) -> None:
                try:
                    call()
                    done.set_result(None)
                except Exception as error:
                    done.set_exception(error)

            loop.call_soon(turn)
            await done
            for _ in range(10):
                await asyncio.sleep(0.005)

    asyncio.run(run())


def test_what_waits_for_nothing_needs_no_task() -> None:
    seen: list[object] = []

    async def work() -> None:
        seen.append(asyncio.current_task())

    outside_a_task(lambda: seen.append(start_eagerly(work())))
    assert seen == [None, None]


def test_what_waits_goes_on_in_a_task() -> None:
    seen: list[object] = []
    tasks: list[asyncio.Task[None] | None] = []
    waited: list[asyncio.Future[str]] = []

    async def work() -> None:
        waited.append(asyncio.get_running_loop().create_future())
        seen.append(await waited[0])
        seen.append(asyncio.current_task())
        await asyncio.sleep(0.001)
        seen.append(asyncio.current_task())

    outside_a_task(lambda: tasks.append(start_eagerly(work())), lambda: waited[0].set_result("came"))
    assert tasks[0] is not None
    assert seen == ["came", tasks[0], tasks[0]]


def test_a_task_is_cancelled_where_its_coroutine_waits() -> None:
    seen: list[str] = []
    tasks: list[asyncio.Task[None] | None] = []

    async def work() -> None:
        try:
            await asyncio.get_running_loop().create_future()
        except asyncio.CancelledError:
            seen.append("cancelled")
            await asyncio.sleep(0)
            seen.append("tidied up")
            raise

    outside_a_task(lambda: tasks.append(start_eagerly(work())), lambda: tasks[0] and tasks[0].cancel())
    assert seen == ["cancelled", "tidied up"]
    assert tasks[0] is not None
    assert tasks[0].cancelled()


@pytest.mark.parametrize("waits", [False, True])
def test_an_error_is_raised_where_the_coroutine_is_at(waits: bool) -> None:
    tasks: list[asyncio.Task[None] | None] = []

    async def work() -> None:
        if waits:
            await asyncio.sleep(0)
        raise LookupError("nothing there")

    begin: Callable[[Coroutine[Any, Any, None]], object] = lambda work: tasks.append(start_eagerly(work))  # noqa: E731
    with suppress(LookupError):
        outside_a_task(lambda: begin(work()))
    if waits:
        assert tasks[0] is not None
        assert isinstance(tasks[0].exception(), LookupError)
    else:
        assert tasks == []


def test_a_worker_thread_is_waited_for_in_a_task() -> None:
    seen: list[object] = []

    async def work() -> None:
        await ensure_task()
        first = asyncio.current_task()
        seen.append(await in_thread(threading.current_thread))
        seen.append(first is asyncio.current_task() is not None)

    async def at_once_in_a_thread() -> None:
        seen.append(await in_thread(sum, [1, 2]))

    outside_a_task(lambda: start_eagerly(work()), lambda: start_eagerly(at_once_in_a_thread()))
    assert seen[0] is not threading.current_thread()
    assert seen[1:] == [True, 3]


def asked(service: Service, *requests: bytes) -> list[bytes]:
    """What is answered to requests that are sent in one go, the last of which closes the connection; their bodies."""
    with socket.create_connection(("127.0.0.1", service.port), timeout=20) as connection:
        connection.sendall(b"".join(requests))
        data = b""
        while piece := connection.recv(65536):
            data += piece
    bodies = []
    while data:
        head, _, data = data.partition(b"\r\n\r\n")
        [length] = [int(line[15:]) for line in head.lower().split(b"\r\n") if line.startswith(b"content-length:")]
        bodies.append(data[:length])
        data = data[length:]
    return bodies


def test_a_thousand_requests_in_one_packet_are_answered_in_their_order(start: Callable[..., Service]) -> None:
    files = {f"{n}.txt": b"%d" % n for n in range(1, 10)} | {"large.bin": b"l" * 300_000}
    service = start(files=files)
    ask = b"GET %s HTTP/1.1\r\nhost: x\r\n%s\r\n"
    paths: list[bytes] = []
    for n in range(1000):
        # Files, which are recorded first; what is refused at once; what the API answers; and a long body.
        kinds = (b"/get/files/%d.txt" % (1 + n % 9), b"/get/nowhere/%d" % n, b"/healthz", b"/get/files/large.bin")
        paths.append(kinds[3 if n % 100 == 99 else n % 3])
    requests = [ask % (path, b"") for path in paths] + [ask % (b"/healthz", b"connection: close\r\n")]
    bodies = asked(service, *requests)
    assert len(bodies) == 1001
    for path, body in zip(paths, bodies, strict=False):
        name = path.rpartition(b"/")[2].decode()
        if path.startswith(b"/get/files/"):
            assert body == files[name]
        else:
            told = json.loads(body)
            assert told == {"status": "alive"} if path == b"/healthz" else told["reason"] == "sign-in"
    complete = service.get("/api/history?state=complete", "ann").text.splitlines()
    assert len(complete) == sum(path.startswith(b"/get/files/") for path in paths)
    assert "Traceback" not in service.errors.read_text()
