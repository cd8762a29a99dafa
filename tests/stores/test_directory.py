"""A directory store never shows, finds or opens anything outside its root."""

from __future__ import annotations

import os
from collections.abc import Generator
from pathlib import Path

import pytest

from invio.core.addresses import Address, parse_address
from invio.core.exclusions import read_exclusions
from invio.core.readable import ContentChanged
from invio.stores import directory
from invio.stores.directory import DirectoryStore, is_at, unchanged
from invio.stores.sources import DiskFile
from invio.stores.store import Missing, StoreFault
from tests.running import open_below


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "root"
    (root / "deep").mkdir(parents=True)
    (root / "a.txt").write_text("inside")
    (root / "deep" / "b.txt").write_text("deeper")
    (tmp_path / "secret.txt").write_text("outside")
    (tmp_path / "rootless").mkdir()
    (tmp_path / "rootless" / "c.txt").write_text("a name that only begins alike")
    return root


@pytest.fixture
def store(root: Path) -> DirectoryStore:
    return DirectoryStore("files", root)


def content(store: DirectoryStore, text: str) -> bytes:
    source = store.locate(parse_address(text)).source
    assert isinstance(source, DiskFile)
    descriptor = source.open()
    with open(descriptor, "rb") as file:
        return file.read()


def test_a_file_is_found_with_its_facts(store: DirectoryStore, root: Path) -> None:
    os.utime(root / "a.txt", (1000, 1000))
    facts = store.locate(parse_address("files/a.txt")).facts
    assert (facts.size, facts.modified) == (6, 1000)
    assert facts.tag
    assert content(store, "files/a.txt") == b"inside"


@pytest.mark.parametrize(
    "target",
    ["../secret.txt", "/etc/passwd", "../rootless/c.txt", "..", "/", "deep/../../secret.txt", "/proc/self/environ"],
)
def test_a_link_that_leaves_the_root_is_as_if_absent(store: DirectoryStore, root: Path, target: str) -> None:
    (root / "link").symlink_to(target)
    (root / "deep" / "folder-link").symlink_to(os.path.dirname(target) or target)
    for text in ("files/link", "files/link/secret.txt", "files/link/etc/passwd", "files/link/c.txt",
                 "files/deep/folder-link/secret.txt", "files/deep/folder-link/passwd"):  # fmt: skip
        with pytest.raises(Missing):
            store.locate(parse_address(text))
    with pytest.raises(Missing):
        store.list(parse_address("files/link/"))
    assert Address("files", "link") not in store.list(parse_address("files/"))
    assert Address("files", "link/") not in store.list(parse_address("files/"))


def test_a_link_within_the_root_is_followed(store: DirectoryStore, root: Path) -> None:
    (root / "alias.txt").symlink_to("deep/b.txt")
    (root / "alias").symlink_to("deep")
    assert content(store, "files/alias.txt") == b"deeper"
    assert content(store, "files/alias/b.txt") == b"deeper"
    assert Address("files", "alias/") in store.list(parse_address("files/"))


def test_a_link_that_comes_to_leave_the_root_is_absent_from_then_on(store: DirectoryStore, root: Path) -> None:
    link = root / "moving.txt"
    link.symlink_to("a.txt")
    assert content(store, "files/moving.txt") == b"inside"
    link.unlink()
    link.symlink_to("../secret.txt")
    with pytest.raises(Missing):
        store.locate(parse_address("files/moving.txt"))


def test_a_file_exchanged_after_it_was_found_is_not_opened(store: DirectoryStore, root: Path) -> None:
    source = store.locate(parse_address("files/a.txt")).source
    (root / "a.txt").unlink()
    (root / "a.txt").symlink_to("../secret.txt")
    with pytest.raises(ContentChanged):
        source.open()  # type: ignore[union-attr]


def test_a_file_altered_after_it_was_found_is_not_opened(store: DirectoryStore, root: Path) -> None:
    source = store.locate(parse_address("files/a.txt")).source
    before = (root / "a.txt").read_bytes()
    for altered in (before[:-1], bytes(reversed(before))):
        (root / "a.txt").write_bytes(altered)
        os.utime(root / "a.txt", ns=(1, 1))
        with pytest.raises(ContentChanged):
            source.open()  # type: ignore[union-attr]


def test_of_a_file_that_may_not_be_read_it_is_said_whose_right_is_missing(store: DirectoryStore, root: Path) -> None:
    found = store.locate(parse_address("files/a.txt"))
    (root / "a.txt").chmod(0o000)
    was = os.geteuid()
    if was == 0:
        os.seteuid(65534)  # who reads everything is told of no right that is missing
    try:
        with pytest.raises(ContentChanged, match="account may not read the file"):
            found.content.open()
    finally:
        os.seteuid(was)


def test_a_file_that_has_grown_since_is_had_as_far_as_it_was_found(store: DirectoryStore, root: Path) -> None:
    source = store.locate(parse_address("files/a.txt")).source
    with (root / "a.txt").open("a") as log:
        log.write("one line more")
    descriptor = source.open()  # type: ignore[union-attr]
    assert descriptor is not None
    os.close(descriptor)


def test_the_tag_changes_with_the_file(store: DirectoryStore, root: Path) -> None:
    address = parse_address("files/a.txt")
    before = store.locate(address).facts
    assert store.locate(address).facts == before
    status = (root / "a.txt").stat()
    os.utime(root / "a.txt", ns=(status.st_atime_ns, status.st_mtime_ns + 1))
    assert store.locate(address).facts.tag != before.tag


@pytest.mark.parametrize(
    "text", ["files/none", "files/deep", "files/a.txt/", "files/a.txt/x", "files/deep/", "files/" + "x" * 300]
)
def test_what_is_no_file_is_missing(store: DirectoryStore, text: str) -> None:
    with pytest.raises(Missing):
        store.locate(parse_address(text))


def test_pipes_and_sockets_are_neither_found_nor_waited_for(store: DirectoryStore, root: Path) -> None:
    os.mkfifo(root / "pipe")
    with pytest.raises(Missing):
        store.locate(parse_address("files/pipe"))
    assert Address("files", "pipe") not in store.list(parse_address("files/"))


def test_a_listing_has_folders_first_and_only_what_an_address_can_name(store: DirectoryStore, root: Path) -> None:
    (root / "Zoo").mkdir()
    (root / "back\\slash").write_text("x")
    (root / "new\nline").write_text("x")
    (root / "decomposed-a\u0301").write_text("x")
    with open(os.fsencode(root) + b"/not-utf8-\xff", "w"):
        pass
    listed = [str(address) for address in store.list(parse_address("files/"))]
    assert listed == ["files/Zoo/", "files/deep/", "files/a.txt"]
    assert [str(address) for address in store.list(parse_address("files/deep/"))] == ["files/deep/b.txt"]
    walked = [str(found.facts.address) for found in store.walk(parse_address("files/"))]
    assert walked == ["files/deep/b.txt", "files/a.txt"], "a walk finds what listings do"


def test_a_listing_tells_folders_from_links_to_them_and_to_files(store: DirectoryStore, root: Path) -> None:
    (root / "linked").symlink_to("deep")
    (root / "file-link").symlink_to("a.txt")
    (root / "out").symlink_to("/")
    listed = [str(address) for address in store.list(parse_address("files/"))]
    assert listed == ["files/deep/", "files/linked/", "files/a.txt", "files/file-link"]


def test_a_walk_that_is_left_early_leaves_no_folder_open(store: DirectoryStore, root: Path) -> None:
    (root / "deep" / "deeper").mkdir()
    (root / "deep" / "deeper" / "c.txt").write_text("c")
    before = len(open_below(root.parent))
    walk = store.walk(parse_address("files/"))
    assert isinstance(walk, Generator)
    assert str(next(walk).facts.address) == "files/deep/deeper/c.txt"
    assert len(open_below(root.parent)) == before + 3, "one for each folder on the way down"
    walk.close()
    assert len(open_below(root.parent)) == before


@pytest.mark.parametrize("text", ["files/none/", "files/a.txt/"])
def test_a_folder_that_is_none_is_missing(store: DirectoryStore, text: str) -> None:
    with pytest.raises(Missing):
        store.list(parse_address(text))


def test_a_root_that_is_missing_is_said_with_what_to_do(tmp_path: Path) -> None:
    with pytest.raises(StoreFault, match="create it, or correct 'root'"):
        DirectoryStore("files", tmp_path / "none")


def test_a_walk_goes_through_links_within_the_root_once_and_through_no_others(
    store: DirectoryStore, root: Path, tmp_path: Path
) -> None:
    (root / "deep" / "up").symlink_to("..")  # a loop
    (root / "out").symlink_to(tmp_path / "rootless")
    (root / "linked").symlink_to("deep")
    (root / "file-link").symlink_to("a.txt")
    (root / "secret-link").symlink_to(tmp_path / "secret.txt")
    (root / "broken").symlink_to("nothing")
    os.mkfifo(root / "pipe")
    walked = [str(found.facts.address) for found in store.walk(parse_address("files/"))]
    assert walked == ["files/deep/b.txt", "files/linked/b.txt", "files/a.txt", "files/file-link"]
    assert not [name for name in walked if content(store, name) not in (b"inside", b"deeper")]


def test_a_link_whose_end_is_moved_out_of_the_root_is_absent_from_then_on(
    store: DirectoryStore, root: Path, tmp_path: Path
) -> None:
    """What it leads to is the same file as before, and lies elsewhere."""
    (root / "way").symlink_to("deep")
    assert content(store, "files/way/b.txt") == b"deeper"
    (root / "deep").rename(tmp_path / "moved")
    (root / "way").unlink()
    (root / "way").symlink_to(tmp_path / "moved")
    with pytest.raises(Missing):
        store.locate(parse_address("files/way/b.txt"))


def test_what_was_found_is_not_looked_for_again_while_it_is_there_unaltered(store: DirectoryStore, root: Path) -> None:
    address = parse_address("files/deep/b.txt")
    assert store.locate(address) is store.locate(address)
    before = store.locate(address)
    (root / "deep" / "b.txt").write_text("altered, and longer")
    assert store.locate(address) is not before


def test_a_long_folder_is_read_again_when_something_was_put_into_it(store: DirectoryStore, root: Path) -> None:
    for number in range(1000):
        (root / "deep" / f"{number:04}.txt").touch()
    os.utime(root / "deep", (1_700_000_000, 1_700_000_000))
    folder = parse_address("files/deep/")
    first = store.list(folder)
    assert len(first) == 1001
    assert store.list(folder) is first
    (root / "deep" / "new.txt").touch()
    os.utime(root / "deep", (1_700_000_001, 1_700_000_001))
    assert Address("files", "deep/new.txt") in store.list(folder)


def test_what_is_on_its_way_into_a_folder_is_never_found_or_listed(store: DirectoryStore, root: Path) -> None:
    (root / ".invio-arriving").mkdir()
    (root / ".invio-arriving" / "half.txt").write_text("half")
    for text in ("files/.invio-arriving/half.txt", "files/.invio-arriving"):
        with pytest.raises(Missing):
            store.locate(parse_address(text))
    with pytest.raises(Missing):
        store.list(parse_address("files/.invio-arriving/"))
    assert not [one for one in store.list(parse_address("files/")) if "arriving" in one.path]
    assert not [one for one in store.walk(parse_address("files/")) if "half" in one.facts.address.path]


def test_a_root_that_cannot_be_used_is_said_with_its_store(root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    store = DirectoryStore("files", root)
    assert store.fault() is None
    root.rename(root.parent / "elsewhere")
    assert str(store.fault()).startswith("the root of store 'files' cannot be opened")
    with pytest.raises(StoreFault, match="is not a directory"):
        DirectoryStore("files", root)
    monkeypatch.setattr(os, "access", lambda *_: False)
    with pytest.raises(StoreFault, match="cannot be read by this user"):
        DirectoryStore("files", root.parent / "elsewhere")


def test_without_links_only_what_lies_where_its_path_says_is_there(root: Path) -> None:
    (root / "deep" / "linked.txt").symlink_to("b.txt")
    (root / "linked").symlink_to("deep")
    store = DirectoryStore("files", root, follows_links=False)
    before = len(open_below(root.parent))
    for text in ("files/deep/linked.txt", "files/linked/b.txt"):
        with pytest.raises(Missing):
            store.locate(parse_address(text))
    with pytest.raises(Missing):
        store.list(parse_address("files/linked/"))
    assert str(store.locate(parse_address("files/deep/b.txt")).facts.address) == "files/deep/b.txt"
    assert [str(one) for one in store.list(parse_address("files/"))] == ["files/deep/", "files/a.txt"]
    assert [str(one) for one in store.list(parse_address("files/deep/"))] == ["files/deep/b.txt"]
    assert [one.facts.address.path for one in store.walk(parse_address("files/"))] == ["deep/b.txt", "a.txt"]
    assert len(open_below(root.parent)) == before


def test_what_the_settings_exclude_is_not_there(root: Path) -> None:
    (root / "deep" / "b.tmp").write_text("excluded")
    (root / "old").mkdir()
    (root / "old" / "c.txt").write_text("excluded")
    store = DirectoryStore("files", root, exclusions=read_exclusions(["*.tmp", "old"], hidden=False))
    for text in ("files/deep/b.tmp", "files/old/c.txt"):
        with pytest.raises(Missing):
            store.locate(parse_address(text))
    assert [str(one) for one in store.list(parse_address("files/"))] == ["files/deep/", "files/a.txt"]
    assert [str(one) for one in store.list(parse_address("files/deep/"))] == ["files/deep/b.txt"]
    assert [one.facts.address.path for one in store.walk(parse_address("files/"))] == ["deep/b.txt", "a.txt"]
    assert not store.excludes(parse_address("files/")), "never all of it"


def test_what_no_address_names_is_told_unless_it_is_excluded(root: Path) -> None:
    for name in (b"tide\xff.csv", b"deep/back\\slash.tmp"):
        (root / os.fsdecode(name)).write_text("nobody's")
    assert list(DirectoryStore("files", root).unnamed()) == [r"deep/back\\slash.tmp", r"tide\udcff.csv"]
    store = DirectoryStore("files", root, exclusions=read_exclusions(["*.tmp"], hidden=False))
    assert list(store.unnamed()) == [r"tide\udcff.csv"]


def test_only_long_folders_without_links_that_rest_are_remembered(
    store: DirectoryStore, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(directory, "_LONG", 3)
    deep, folder = root / "deep", parse_address("files/deep/")

    def is_remembered() -> bool:
        os.utime(deep, (1_700_000_000, 1_700_000_000))
        return store.list(folder) is store.list(folder)

    (deep / "c.txt").touch()
    assert not is_remembered(), "it is short"
    (deep / "d.txt").touch()
    assert is_remembered()
    os.utime(deep)
    assert store.list(folder) is not store.list(folder), "it may change again within its time stamp"
    (deep / "link").symlink_to("d.txt")
    assert not is_remembered()


def test_nothing_stays_open_whatever_is_asked(
    store: DirectoryStore, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (root / "deep" / "loop").symlink_to("..")
    before = len(open_below(root.parent))
    store.locate(parse_address("files/a.txt"))
    store.list(parse_address("files/deep/"))
    for text in ("files/none.txt", "files/deep/none.txt", "files/a.txt/b"):
        with pytest.raises(Missing):
            store.locate(parse_address(text))
    assert len(list(store.walk(parse_address("files/")))) == 2
    scandir = os.scandir

    def refusing(folder: int) -> object:
        if os.readlink(f"/proc/self/fd/{folder}").endswith("/deep"):
            raise PermissionError("not this one")
        return scandir(folder)

    monkeypatch.setattr(os, "scandir", refusing)
    assert [one.facts.address.path for one in store.walk(parse_address("files/"))] == ["a.txt"]
    with pytest.raises(Missing):
        store.list(parse_address("files/deep/"))
    assert len(open_below(root.parent)) == before


def test_a_walk_goes_as_deep_as_an_address_can_be(
    store: DirectoryStore, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (root / "deep" / "er").mkdir()
    (root / "deep" / "er" / "c.txt").write_text("c")
    assert len(list(store.walk(parse_address("files/")))) == 3
    monkeypatch.setattr(directory, "_DEPTH", 2)
    assert [one.facts.address.path for one in store.walk(parse_address("files/"))] == ["deep/b.txt", "a.txt"]


def test_names_of_other_scripts_are_listed_and_those_that_no_address_has_are_not(
    store: DirectoryStore, root: Path
) -> None:
    for name in ("Åland.txt", "back\\slash.txt"):
        (root / name).touch()
    assert Address("files", "Åland.txt") in store.list(parse_address("files/"))
    assert len(store.list(parse_address("files/"))) == 3


def test_a_root_that_has_gone_is_a_fault_and_no_missing_file(store: DirectoryStore, root: Path) -> None:
    assert store.root == os.fsencode(os.path.realpath(root)) + b"/"
    root.rename(root.parent / "elsewhere")
    with pytest.raises(StoreFault, match="store 'files': its root cannot be opened: No such file"):
        store.locate(parse_address("files/deep/b.txt"))


def test_whether_a_file_is_what_was_found(store: DirectoryStore, root: Path) -> None:
    found = store.locate(parse_address("files/a.txt"))
    assert not found.neighbours
    assert unchanged(found.source)
    assert not unchanged("a.txt")
    assert not is_at(str(root / "a.txt"), "a.txt")
    (root / "a.txt").unlink()
    assert not unchanged(found.source)
    with pytest.raises(Missing):
        store.locate(parse_address("files/a.txt"))


@pytest.mark.parametrize("instead", ["folder", "pipe", "other", "nothing"])
def test_what_took_a_files_place_is_not_read_for_it(tmp_path: Path, instead: str) -> None:
    path = tmp_path / "a.txt"
    path.write_text("found")
    source = DiskFile.of(os.fsencode(path), path.stat())
    assert source.read(1, 4) == b"ound"
    path.rename(tmp_path / "before")  # it keeps its inode, or what comes may have the same
    if instead == "folder":
        path.mkdir()
    elif instead == "pipe":
        os.mkfifo(path)
    elif instead == "other":
        path.write_text("other, and longer")
    with pytest.raises(ContentChanged, match=r"replaced or altered|no longer be opened"):
        source.read(1, 4)
    assert open_below(tmp_path) == []
