"""Failed sign-ins and known devices in the records, what versions are still needed, and digests for all processes."""

from __future__ import annotations

import time
from collections.abc import Iterator

import pytest
import sqlalchemy as sa

from invio.core.addresses import parse_address
from invio.core.links.seals import make_link
from invio.core.sign_ins import FORGOTTEN, Counter, password_counters
from invio.records import retention, sign_ins
from invio.records.bundles import BundleOptions, new_bundle, save_bundle
from invio.records.database import write
from invio.records.digests import RecordedDigests
from invio.records.links import note_made, revoke
from invio.records.retention import needed_versions
from invio.records.sign_ins import MustWait, attempt, device_of, forget_devices, know_device, succeeded
from invio.records.statements import insert
from invio.records.tables import bundles, known_devices, sign_in_attempts
from tests.clocks import SetClock
from tests.records.test_records import row

HERE, ELSEWHERE = "192.0.2.7", "198.51.100.9"


@pytest.fixture
def connection(engine: sa.Engine) -> Iterator[sa.Connection]:
    with write(engine).begin() as connection:
        yield connection


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> SetClock:
    clock = SetClock()
    monkeypatch.setattr(sign_ins, "time", clock)
    return clock


def waits(connection: sa.Connection, counters: list[Counter]) -> float:
    try:
        attempt(connection, counters)
    except MustWait as told:
        return told.seconds
    return 0.0


def test_the_sixth_wrong_password_of_an_account_waits_from_wherever_it_comes(
    connection: sa.Connection, clock: SetClock
) -> None:
    for _ in range(6):
        assert waits(connection, password_counters("ann", HERE, None)) == 0
    assert waits(connection, password_counters("ann", ELSEWHERE, None)) > 0
    assert waits(connection, password_counters("bob", HERE, None)) == 0, "another account"
    clock.now += FORGOTTEN
    assert waits(connection, password_counters("ann", HERE, None)) == 0


def test_who_waits_is_not_counted_meanwhile(connection: sa.Connection, clock: SetClock) -> None:
    counters = password_counters("ann", HERE, None)
    while not (wait := waits(connection, counters)):
        pass
    for _ in range(50):
        assert waits(connection, counters) == wait
    clock.now += wait
    assert waits(connection, counters) == 0


def test_a_success_forgives_its_account_and_takes_back_one_attempt_of_its_network(
    connection: sa.Connection, clock: SetClock
) -> None:
    for number in range(10):
        waits(connection, password_counters(f"guessed-{number}", HERE, None))
    for _ in range(5):
        waits(connection, password_counters("ann", HERE, None))
    succeeded(connection, password_counters("ann", HERE, None))
    rows: dict[str, int] = {one.key: one.attempts for one in connection.execute(sa.select(sign_in_attempts))}
    network = next(key for key in rows if key.startswith("network:"))
    assert rows[network] == 14
    assert "account:ann" not in rows
    assert "account:guessed-0" in rows


def test_a_device_that_signed_in_before_is_counted_by_itself(connection: sa.Connection, clock: SetClock) -> None:
    secret = know_device(connection, "ann", None)
    assert know_device(connection, "bob", secret) == secret
    device = device_of(connection, secret, "ann")
    assert device is not None
    assert secret not in device
    assert device_of(connection, secret, "cid") is None
    for _ in range(20):
        waits(connection, password_counters("ann", ELSEWHERE, None))
    assert waits(connection, password_counters("ann", HERE, device)) == 0, "others' guesses do not slow it down"
    forget_devices(connection, "ann")
    assert device_of(connection, secret, "ann") is None
    assert device_of(connection, secret, "bob") is not None


def test_what_is_over_is_kept_no_longer(connection: sa.Connection, clock: SetClock) -> None:
    def kept() -> tuple[list[str], list[str]]:
        tried = connection.execute(sa.select(sign_in_attempts.c.key).order_by(sign_in_attempts.c.key))
        return list(tried.scalars()), list(connection.execute(sa.select(known_devices.c.recipient)).scalars())

    waits(connection, [Counter("account:ann", 5, 1.0)])
    know_device(connection, "ann", None)
    clock.now += FORGOTTEN + 1
    waits(connection, [Counter("account:bob", 5, 1.0)])
    assert kept() == (["account:bob"], ["ann"])
    clock.now += sign_ins.DEVICE_LIFE
    know_device(connection, "cid", None)
    assert kept() == (["account:bob"], ["cid"])


def test_no_network_is_forgiven_more_than_it_tried(connection: sa.Connection, clock: SetClock) -> None:
    counters = password_counters("ann", HERE, None)
    waits(connection, counters)
    for _ in range(3):
        succeeded(connection, counters)
    assert connection.execute(sa.select(sign_in_attempts.c.attempts)).scalars().all() == [0]


def test_a_device_is_forgotten_after_half_a_year(connection: sa.Connection, clock: SetClock) -> None:
    secret = know_device(connection, "ann", None)
    clock.now += sign_ins.DEVICE_LIFE
    assert device_of(connection, secret, "ann") is None


def test_versions_are_needed_by_transfers_links_and_bundles(
    connection: sa.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    def link(name: str, version: int, *conditions: tuple[str, str]) -> None:
        root = [("id", name), ("version", str(version))]
        note_made(connection, make_link(parse_address("models/a"), "k1", bytes(32), root, conditions), None, [])

    insert(connection, [row(address="models/a", version=1), row(1, address="models/a", version=2, state="complete")])
    insert(connection, [row(2, address="other/a", version=9), row(3, address="models/deep/b", version=3)])
    now = float(int(time.time()))
    monkeypatch.setattr(retention, "time", SetClock(now))
    link("lasts", 4)
    link("ends", 5, ("until", str(int(now))))
    link("revoked", 6)
    revoke(connection, "revoked")
    elsewhere = make_link(parse_address("other/a"), "k1", bytes(32), [("id", "elsewhere"), ("version", "4")])
    note_made(connection, elsewhere, None, [])
    save_bundle(connection, new_bundle("ann", "a.zip", ["models/"], BundleOptions(), {"models/c": 7, "other/c": 8}))
    assert needed_versions(connection, "models") == {("a", 1), ("deep/b", 3), ("a", 4), ("c", 7)}
    monkeypatch.setattr(retention, "time", SetClock(connection.execute(sa.select(bundles.c.expires)).scalar_one()))
    assert needed_versions(connection, "models") == {("a", 1), ("deep/b", 3), ("a", 4)}


def test_a_digest_is_known_to_all_processes(engine: sa.Engine) -> None:
    RecordedDigests(engine).save("t", b"d" * 32)
    RecordedDigests(engine).save("t", b"e" * 32)
    assert RecordedDigests(engine).known("t") == b"d" * 32
    assert RecordedDigests(engine).known("u") is None


def test_a_digest_that_cannot_be_recorded_is_an_error_of_the_system(engine: sa.Engine) -> None:
    with write(engine).begin() as connection:
        connection.execute(sa.text("DROP TABLE digests"))
    with pytest.raises(OSError, match="cannot be recorded"):
        RecordedDigests(engine).save("t", b"d" * 32)
