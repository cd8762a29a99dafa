"""Nothing outside a root is read, written or removed, while folders of it are exchanged with links that lead out."""

from __future__ import annotations

import ctypes
import os
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from invio.core.addresses import Address
from invio.core.http.request_head import RequestHead
from invio.core.readable import ContentChanged
from invio.core.reasons import Refusal
from invio.core.versions import PathConflict, Putting
from invio.delivery.sending.slices import read_fully
from invio.stores import beneath
from invio.stores.sources import DiskFile
from invio.stores.store import Missing
from invio.stores.writable import WritableDirectoryStore
from tests.torture.scale import report, times

TRIES = {"locate": times(4000, 70_000), "list": times(2000, 50_000), "walk": times(1000, 30_000),
         "put": times(500, 25_000), "remove": times(500, 25_000)}  # fmt: skip
SECRET = b"OUTSIDE-SECRET"
_RENAMEAT2, _AT_FDCWD, _EXCHANGE = 316, -100, 2


@contextmanager
def exchanging(one: Path, other: Path) -> Iterator[None]:
    """Exchanges two names for each other as fast as can be, for as long as the `with` lasts."""
    syscall, ended = ctypes.CDLL(None).syscall, threading.Event()
    names = os.fsencode(one), os.fsencode(other)

    def work() -> None:
        while not ended.is_set():
            assert syscall(_RENAMEAT2, _AT_FDCWD, names[0], _AT_FDCWD, names[1], _EXCHANGE) == 0

    thread = threading.Thread(target=work)
    thread.start()
    try:
        yield
    finally:
        ended.set()
        thread.join()


@pytest.fixture(params=["by the kernel", "step by step"])
def store(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> WritableDirectoryStore:
    """A store whose folder `a` is now itself, and now a link to a folder outside, in which the same names are."""
    if request.param == "step by step":
        monkeypatch.setattr(beneath, "_OPENAT2", 100_000)  # a call that no kernel has
    for folder in (tmp_path / "root" / "a" / "deep", tmp_path / "outside" / "deep"):
        folder.mkdir(parents=True)
    (tmp_path / "root" / "a" / "f.txt").write_bytes(b"inside")
    (tmp_path / "root" / "a" / "deep" / "f.txt").write_bytes(b"inside")
    for path in ("f.txt", "only-outside.txt", "deep/f.txt"):
        (tmp_path / "outside" / path).write_bytes(SECRET)
    (tmp_path / "root" / "link").symlink_to(tmp_path / "outside")
    return WritableDirectoryStore("files", tmp_path / "root")


def content(source: object) -> bytes:
    assert isinstance(source, DiskFile)
    try:
        descriptor = source.open()
    except ContentChanged:
        return b""
    try:
        return read_fully(descriptor, source.size, 0)
    finally:
        os.close(descriptor)


def putting() -> Putting:
    return Putting(RequestHead("PUT", []), lambda _: None)


def test_exchanged_folders_lead_nowhere(store: WritableDirectoryStore, tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    before = sorted(path.relative_to(outside) for path in outside.rglob("*"))
    escaped: list[str] = []

    def locate(number: int) -> None:
        path = ("a/f.txt", "a/deep/f.txt", "a/only-outside.txt", "link/f.txt")[number % 4]
        if content(store.locate(Address("files", path)).source) == SECRET:
            escaped.append("locate")

    def listing(_: int) -> None:
        if any("only-outside" in address.path for address in store.list(Address("files", "a/"))):
            escaped.append("list")

    def walk(number: int) -> None:
        for found in store.walk(Address("files", ("", "a/", "a/deep/")[number % 3])):
            escaped.extend(["walk"] if content(found.source) == SECRET else [])

    def put(number: int) -> None:
        with store.begin() as arriving:
            arriving.write(b"put")
            store.put(Address("files", f"a/new-{number % 50}/put.txt"), arriving, putting())

    def remove(number: int) -> None:
        store.remove(Address("files", ("a/f.txt", "a/deep/f.txt", "a/only-outside.txt")[number % 3]), None, putting())

    work: dict[str, Callable[[int], None]] = {
        "locate": locate,
        "list": listing,
        "walk": walk,
        "put": put,
        "remove": remove,
    }
    with exchanging(tmp_path / "root" / "a", tmp_path / "root" / "link"):
        for name, tries in TRIES.items():
            done, enough = 0, tries // 2  # each of the two ways
            # Whoever exchanges them may stand still for longer than so many tries take: then there are more.
            for number in range(50 * enough):
                if number >= enough and (done or name == "remove"):
                    break
                with suppress(Missing, PathConflict, NotADirectoryError, FileNotFoundError, Refusal):
                    work[name](number)
                    done += 1
                if name == "remove":
                    with suppress(OSError):  # for the next one to remove
                        (tmp_path / "root" / "a" / "f.txt").write_bytes(b"inside") if not (
                            tmp_path / "root" / "a"
                        ).is_symlink() else None
            assert done or name == "remove", f"{name}: none of {50 * enough} tries came to anything"
    written = [path for path in outside.rglob("*") if path.is_file() and path.read_bytes() not in (SECRET, b"inside")]
    after = sorted(path.relative_to(outside) for path in outside.rglob("*"))
    report(
        "tries to leave a root while its folders are exchanged", sum(TRIES.values()) // 2, len(escaped) + len(written)
    )
    assert escaped == []
    assert after == before, "nothing outside came to be, and nothing there is gone"
    assert written == []


def test_removing_a_link_removes_the_link(tmp_path: Path) -> None:
    root = tmp_path / "root"
    (root / "b").mkdir(parents=True)
    (root / "a").mkdir()
    (root / "b" / "target.txt").write_bytes(b"kept")
    (root / "a" / "link.txt").symlink_to("../b/target.txt")
    store = WritableDirectoryStore("files", root)
    assert store.remove(Address("files", "a/link.txt"), None, putting()) == 1
    assert not (root / "a" / "link.txt").is_symlink()
    assert (root / "b" / "target.txt").read_bytes() == b"kept"


def test_links_that_stay_inside_are_followed_however_they_are_written(tmp_path: Path) -> None:
    root = tmp_path / "root"
    (root / "b" / "c").mkdir(parents=True)
    (root / "b" / "c" / "f.txt").write_bytes(b"f")
    (root / "relative").symlink_to("b/c")
    (root / "absolute").symlink_to(root / "b" / "c")
    (root / "b" / "up").symlink_to("../b/c/../c")
    (root / "out").symlink_to(tmp_path)
    (root / "climbs").symlink_to("b/../../root/b")
    (root / "loop").symlink_to("loop")
    store = WritableDirectoryStore("files", root)
    for path in ("relative/f.txt", "absolute/f.txt", "b/up/f.txt", "b/c/f.txt"):
        assert content(store.locate(Address("files", path)).source) == b"f", path
    for path in ("out/root/b/c/f.txt", "climbs/c/f.txt", "loop", "loop/f.txt", "b/c/f.txt/below"):
        with pytest.raises(Missing):
            store.locate(Address("files", path))
    assert [str(one) for one in store.list(Address("files", ""))] == ["files/absolute/", "files/b/", "files/relative/"]
    assert {found.facts.address.path for found in store.walk(Address("files", ""))} == {
        "absolute/f.txt", "b/c/f.txt", "b/up/f.txt", "relative/f.txt"
    }  # fmt: skip
