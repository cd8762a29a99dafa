"""A store of one's own, as docs/stores.md has it: the example is run as it stands there."""

from __future__ import annotations

import mailbox
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from invio.core.addresses import Address, parse_address
from invio.core.files import FileFacts
from invio.core.readable import ContentChanged
from invio.stores import BlockingStore, Missing, StoreFault
from invio.stores.custom import custom_store
from tests.running import SETTINGS, Service, make_folder

PAGE = Path(__file__).parents[2] / "docs" / "stores.md"


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("custom") / "service"
    text = PAGE.read_text("utf-8")
    code, settings = (text.partition(f"```{kind}\n")[2].partition("```")[0] for kind in ("python", "toml"))
    assert len(code.splitlines()) < 40
    make_folder(folder, settings=SETTINGS + settings.replace("/srv/survey/mail", str(folder / "mail")))
    (folder / "survey").mkdir()
    (folder / "survey" / "letters.py").write_text(code)
    box = mailbox.Maildir(folder / "mail")
    for number in range(3):
        letter = mailbox.MaildirMessage(f"Subject: Buoy {number}\n\n" + f"It has moved {number} m.\n" * 20_000 * number)
        letter.set_date(1_767_225_600 + number)
        box.add(letter)
    service = Service.start(folder, PYTHONPATH=str(folder))
    yield service
    assert service.stop() == 0


def test_the_letters_are_listed_with_what_they_are_about(service: Service) -> None:
    files = service.get("/api/files?in=letters/", "ann").json()["files"]
    assert sorted(file["description"] for file in files) == ["Buoy 0", "Buoy 1", "Buoy 2"]
    assert {file["media_type"] for file in files} == {"message/rfc822"}


def test_a_letter_is_delivered_whole_in_parts_and_in_an_archive(service: Service) -> None:
    files = service.get("/api/files?in=letters/", "ann").json()["files"]
    longest = max(files, key=lambda file: int(file["size"]))
    whole = service.get(f"/get/{longest['address']}", "ann")
    assert len(whole.content) == longest["size"]
    part = service.get(f"/get/{longest['address']}", "ann", range="bytes=700000-700009", if_range=whole.headers["etag"])
    assert (part.status_code, part.content) == (206, whole.content[700_000:700_010])
    with service.client("ann") as client:
        made = client.post("/api/bundles", json={"files": ["letters/"]}).json()
        assert made["entries"] == 3
        assert client.get(made["url"]).content[:2] == b"PK"
    assert service.get("/get/letters/none.eml", "ann").status_code == 404


class Odd(BlockingStore):
    """One that does what a store must not."""

    def __init__(self, name: str, how: str = "well") -> None:
        super().__init__(name, timeout=0.2, fresh=0.0)
        self.how = how
        self.held = threading.Event()

    def look_up(self, address: Address) -> FileFacts:
        if self.how == "hangs":
            self.held.wait(5)
        if self.how == "fails":
            raise RuntimeError("the shelf has fallen over")
        return FileFacts(address, 10, None, "another" if self.how == "changes" else "tag")

    def look_into(self, folder: Address) -> list[Address]:
        return [Address(folder.store, "a")] if not folder.path else []

    def read_at(self, address: Address, tag: str, offset: int, count: int) -> bytes:  # noqa: ARG002
        return b"0123456789"[offset : offset + (count if self.how != "short" else count - 1)]


@pytest.mark.parametrize(
    ("how", "says"), [("hangs", "no answer within 0.2 seconds"), ("fails", "RuntimeError: the shelf has fallen over")]
)
def test_what_hangs_or_fails_is_told_with_the_name_of_the_store(how: str, says: str) -> None:
    store = custom_store("shelf", f"{__name__}:Odd", {"how": how})
    with pytest.raises(StoreFault, match=f"store 'shelf': .*{says}"):
        store.locate(parse_address("shelf/a"))
    store.held.set()  # type: ignore[attr-defined]


def test_what_ends_early_or_changes_is_broken_off() -> None:
    store = Odd("shelf")
    source = store.locate(parse_address("shelf/a")).content
    assert source.read(2, 3) == b"234"
    store.how = "short"
    with pytest.raises(ContentChanged, match="ended before"):
        source.read(0, 10)
    store.how = "changes"
    assert not source.is_unaltered()


class Lying(Odd):
    """One whose system says of some files what cannot be."""

    def look_up(self, address: Address) -> FileFacts:
        size = -1 if address.path == "less" else 10
        return FileFacts(address, size, float("nan"), "tag", "text/html\r\nx: y", name="a\r\nb")

    def look_into(self, folder: Address) -> list[FileFacts | Address]:  # type: ignore[override]
        return [self.look_up(Address(folder.store, path)) for path in ("less", "more", "more")]


def test_a_file_of_which_something_cannot_be_keeps_nobody_from_the_others(caplog: pytest.LogCaptureFixture) -> None:
    store = Lying("shelf")
    assert store.list(parse_address("shelf/")) == [parse_address("shelf/more")]
    (line,) = [line for line in caplog.records if line.message == "store.file-left-out"]
    assert "shelf/less is said to have a size of -1 bytes" in line.fields["error"]  # type: ignore[attr-defined]
    facts = store.locate(parse_address("shelf/more")).facts
    assert (facts.size, facts.modified, facts.media_type) == (10, None, None)
    with pytest.raises(StoreFault, match="store 'shelf': shelf/less is said to have a size of -1 bytes"):
        store.locate(parse_address("shelf/less"))


def test_a_folder_without_anything_is_none() -> None:
    with pytest.raises(Missing):
        Odd("shelf").list(parse_address("shelf/none/"))


@pytest.mark.parametrize(
    ("target", "options", "says"),
    [
        ("tests.stores.test_custom", {}, "expected 'module:function'|expected"),
        (f"{__name__}:Missing", {}, "has no locate"),
        (f"{__name__}:None_", {}, "has no 'None_'"),
        (f"{__name__}:Odd", {"shelf": 1}, "could not be made: TypeError"),
    ],
)
def test_a_class_that_is_no_store_is_refused_at_the_start(target: str, options: dict[str, object], says: str) -> None:
    assert __name__ in sys.modules
    with pytest.raises(StoreFault, match=says):
        custom_store("shelf", target, options)
