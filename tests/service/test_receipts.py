"""Receipts of a running service: who may have one, of what, and whether it holds."""

from __future__ import annotations

import asyncio
import hashlib
import io
import json
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from click.testing import CliRunner, Result
from PIL import Image

from invio.cli.main import main
from invio.core.reasons import Refusal
from invio.core.receipts import BadReceipt, Receipt, check
from invio.core.signing import SigningKey
from invio.records.database import open_database
from invio.records.journal import Journal
from invio.records.signing_keys import add_signing_key
from invio.service.backup import back_up, restore
from invio.service.settings import read_settings
from invio.service.signing import SigningKeys
from invio.workers.pool import Pool
from tests.rules import rule
from tests.running import SETTINGS, Service, until

RULES = rule("group:crew", "files/charts/** models/**", "list read bundle", "crew reads charts") + rule(
    "group:admins", "**", "list read bundle link put manage administer", "admins"
)
MODELS = SETTINGS + '\n[stores.models]\nkind = "managed"\nroot = "models"\n'
FILES = {"charts/a.txt": b"aaa" * 1000, "charts/b.txt": b"b" * 3000}


@pytest.fixture
def service(start: Callable[..., Service]) -> Service:
    return start(files=FILES, rules=RULES, settings=MODELS)


def _last(service: Service, address: str, state: str = "complete") -> str:
    """The id of the newest transfer of a file, as soon as it is in this state."""
    found: list[str] = []

    def there() -> bool:
        found[:] = [one["id"] for one in service.transfers() if (one["address"], one["state"]) == (address, state)]
        return bool(found)

    until(there)
    return found[0]


def _receipt(service: Service, transfer: str, who: str) -> Receipt:
    answer = service.get(f"/api/transfers/{transfer}/receipt", who)
    assert answer.status_code == 200, answer.text
    assert answer.headers["content-type"] == "application/jose"
    assert answer.headers["content-disposition"] == f'attachment; filename="receipt-{transfer}.jws"'
    assert answer.headers["cache-control"] == "no-store"
    return check(answer.text, service.get("/api/public-keys").json())


def test_who_obtained_a_file_has_a_receipt_of_just_that_content(service: Service) -> None:
    sha256 = hashlib.sha256(FILES["charts/a.txt"]).hexdigest()
    assert service.get("/api/files/files/charts/a.txt", "bob").status_code == 200
    assert service.get("/get/files/charts/a.txt", "bob", **{"Want-Repr-Digest": "sha-256=1"}).status_code == 200
    stated = _receipt(service, _last(service, "files/charts/a.txt"), "bob")
    assert (stated.recipient, stated.address, stated.size) == ("bob", "files/charts/a.txt", 3000)
    assert (stated.service, stated.version, stated.link) == (service.url, None, None)
    assert stated.began <= stated.arrived <= stated.signed
    assert stated.sha256 == sha256
    assert _receipt(service, stated.transfer, "ann").transfer == stated.transfer, "who manages the file has it, too"


def test_a_version_is_named_with_its_digest_also_when_it_is_gone(service: Service) -> None:
    with service.client("ann") as ann:
        for content in (b"first", b"second"):
            assert ann.put("/api/files/models/floor.bin", content=content).status_code in (200, 201)
    assert service.get("/get/models/floor.bin?version=1", "bob").content == b"first"
    transfer = _last(service, "models/floor.bin")
    with service.client("ann") as ann:
        assert ann.delete("/api/files/models/floor.bin?version=1").status_code == 204
    stated = _receipt(service, transfer, "ann")
    assert (stated.version, stated.sha256) == (1, hashlib.sha256(b"first").hexdigest())


def test_a_rendition_has_a_receipt_of_its_own_and_none_of_its_image(start: Callable[..., Service]) -> None:
    service = start(rules=RULES, settings=MODELS + "\n[renditions.thumb]\nwidth = 8\nheight = 8\n")
    chart = io.BytesIO()
    Image.new("RGB", (64, 64), "navy").save(chart, "PNG")
    with service.client("ann") as ann:
        assert ann.put("/api/files/models/chart.png", content=chart.getvalue()).status_code == 201
    small = service.get("/get/models/chart.png?version=1&rendition=thumb", "bob")
    assert "immutable" not in small.headers["cache-control"], "the settings may make it larger"
    told = _last(service, "models/chart.png")
    stated = _receipt(service, told, "bob")
    assert (stated.rendition, stated.size, stated.version, stated.sha256) == ("thumb", len(small.content), 1, None)
    assert service.get(f"/api/transfers/{told}", "bob").json()["rendition"] == "thumb"
    whole = service.get("/get/models/chart.png?version=1", "bob")
    assert "immutable" in whole.headers["cache-control"]
    until(lambda: len(_lines(service)) == 2)
    assert {(one["rendition"], one["size"]) for one in _lines(service)} == {
        ("thumb", len(small.content)), (None, len(whole.content)),
    }  # fmt: skip


def _lines(service: Service) -> list[dict[str, object]]:
    told = service.get("/api/history?address=models/chart.png&state=complete", "ann").text
    return [json.loads(line) for line in told.splitlines()]


def test_whom_somebody_made_a_link_for_is_not_made_a_recipient(service: Service) -> None:
    with service.client("ann") as ann:
        made = ann.post("/api/links", json={"address": "files/charts/b.txt", "to": "bob"}).json()
    assert service.get(made["url"].removeprefix(service.url)).status_code == 200
    stated = _receipt(service, _last(service, "files/charts/b.txt"), "ann")
    assert (stated.recipient, stated.made_for, stated.link) == (None, "bob", made["id"])


def test_what_has_not_arrived_has_none_and_nobody_else_s_is_told_of(service: Service) -> None:
    assert service.get("/get/files/charts/b.txt", "bob", Range="bytes=0-99").status_code == 206
    part = _last(service, "files/charts/b.txt", "partial")
    refused = service.get(f"/api/transfers/{part}/receipt", "bob")
    assert (refused.status_code, refused.json()["reason"]) == (409, "not-arrived")
    assert "did not arrive whole" in refused.json()["detail"]
    assert service.get("/get/files/charts/a.txt", "ann").status_code == 200
    whole = _last(service, "files/charts/a.txt")
    for who in ("bob", None):
        assert service.get(f"/api/transfers/{whole}/receipt", who).json()["reason"] == "missing"


def test_whom_the_holder_of_the_key_names_is_the_recipient(service: Service) -> None:
    assert service.get(service.link("files/charts/b.txt", {"id": "mail-1", "to": "bob"})).status_code == 200
    stated = _receipt(service, _last(service, "files/charts/b.txt"), "ann")
    assert (stated.recipient, stated.made_for, stated.link) == ("bob", "bob", "mail-1")


def test_the_rest_completes_it_and_the_receipt_is_for_all_of_it(service: Service) -> None:
    for part in ("0-999", "1000-2999"):
        assert service.get("/get/files/charts/b.txt", "bob", Range=f"bytes={part}").status_code == 206
    assert _receipt(service, _last(service, "files/charts/b.txt"), "bob").size == 3000


def test_all_workers_sign_with_one_key_and_a_backup_has_it(start: Callable[..., Service], tmp_path: Path) -> None:
    service = start(files=FILES, rules=RULES, settings=MODELS + "\n[service]\nworkers = 3\n")
    seen = {service.get("/api/public-keys").text for _ in range(30)}
    assert len(seen) == 1
    assert service.get("/get/files/charts/a.txt", "bob").status_code == 200
    transfer = _last(service, "files/charts/a.txt")
    text = service.get(f"/api/transfers/{transfer}/receipt", "bob").text
    service.stop()
    back_up(read_settings(service.folder / "invio.toml"), tmp_path / "copy.tar")
    restore(tmp_path / "copy.tar", tmp_path / "again")
    shutil.copy(service.folder / "tokens.json", tmp_path / "again")
    again = start(tmp_path / "again")
    assert check(text, again.get("/api/public-keys").json()).transfer == transfer


def test_another_service_s_keys_prove_nothing(service: Service, start: Callable[..., Service]) -> None:
    other = start(files=FILES, rules=RULES, settings=MODELS)
    assert service.get("/get/files/charts/a.txt", "bob").status_code == 200
    text = service.get(f"/api/transfers/{_last(service, 'files/charts/a.txt')}/receipt", "bob").text
    with pytest.raises(BadReceipt, match="none of the public keys"):
        check(text, other.get("/api/public-keys").json())


def test_the_keys_are_read_once_in_a_while_for_all_who_ask(tmp_path: Path) -> None:
    engine, now = open_database(tmp_path / "records.sqlite"), [1000.0]

    async def work() -> None:
        journal, pool, full = Journal(engine), Pool("history", 1, waiting=9), Pool("history", 1, waiting=-1)
        keys = SigningKeys(engine, journal, pool, lambda: now[0])
        first = await keys.known()
        keys._pool = full  # what anybody may ask for takes no turn of what others wait for
        now[0] += 4.9
        assert await keys.known() == first
        assert await SigningKeys(engine, journal, pool).known() == first, "another process finds the same"

        new = SigningKey.new()
        await journal.call(lambda connection: add_signing_key(connection, new.raw))
        now[0] += 0.2
        assert await keys.known() == first, "there is no room to read them"
        now[0], keys._pool = now[0] + 5, pool
        assert await keys.known() == [new, *first]
        await journal.stop()
        with pytest.raises(Refusal, match="busy"):
            await SigningKeys(engine, journal, full).known()

    asyncio.run(work())
    engine.dispose()


def test_a_key_that_somebody_else_has_is_replaced_and_withdrawn(service: Service) -> None:
    assert service.get("/get/files/charts/a.txt", "bob").status_code == 200
    receipt = f"/api/transfers/{_last(service, 'files/charts/a.txt')}/receipt"
    text = service.get(receipt, "bob").text
    [old] = (key["kid"] for key in service.get("/api/public-keys").json()["keys"])

    def change(*given: str) -> Result:
        return CliRunner().invoke(main, ["receipt", *given, "--settings", str(service.folder / "invio.toml")])

    refused = change("withdraw-key", old)
    assert refused.exit_code == 1
    assert f"{old} signs now; make another first, with 'invio receipt new-key'" in refused.output
    assert f"there is no signing key 'none'; keys are {old}" in change("withdraw-key", "none").output
    made = change("new-key")
    new = made.output.partition(" ")[0]
    assert made.output == f"{new} signs from now on; what {old} signed is still proved\n"
    until(lambda: len(service.get("/api/public-keys").json()["keys"]) == 2)
    keys = service.get("/api/public-keys").json()
    again = service.get(receipt, "bob").text
    assert check(text, keys).transfer == check(again, keys).transfer

    assert json.loads(change("withdraw-key", old, "--json").output) == {"withdrawn": old}
    until(lambda: len(service.get("/api/public-keys").json()["keys"]) == 1)
    keys = service.get("/api/public-keys").json()
    assert [key["kid"] for key in keys["keys"]] == [new]
    with pytest.raises(BadReceipt, match="none of the public keys"):
        check(text, keys)
    assert check(again, keys)
    lines = service.get("/api/audit?event=signing-key", "ann").json()["lines"]
    assert [(line["event"], line["about"]) for line in lines] == [
        ("signing-key.withdrawn", {"key": old}), ("signing-key.made", {"key": new}),
    ]  # fmt: skip
