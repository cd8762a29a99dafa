"""Files in rows of a table: on SQLite, and on a PostgreSQL server of Debian's."""

from __future__ import annotations

import asyncio
import hashlib
import random
import sqlite3
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
import sqlalchemy as sa
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.http.request_head import RequestHead
from invio.core.readable import ContentChanged
from invio.core.reasons import Refusal
from invio.core.versions import PathConflict, Putting
from invio.producers.producer import database_engine
from invio.stores import blobs
from invio.stores.sources import read_through
from invio.stores.store import Missing, StoreFault
from invio.stores.table import Columns, TableStore
from invio.stores.writable_table import WritableTableStore
from tests.stores.postgres import postgres

COLUMNS = Columns(
    "path", "dump", name="saved_as", media_type="kind", size="bytes", modified="taken", digest="sha256",
    description="says", facts=("station", "quality"), by="put_by",
)  # fmt: skip
LONG = random.Random(7).randbytes(3_000_001)
SENT = b"2026-01-03 04:05 2.17\n" * 40


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with postgres(tmp_path_factory.mktemp("server")) as url:
        yield url


@pytest.fixture(params=["sqlite", "postgresql"])
def engine(request: pytest.FixtureRequest, tmp_path: Path) -> sa.Engine:
    """A table of three dumps, and of two rows that no address can name."""
    if request.param == "sqlite":
        engine = database_engine("sqlite:///gauges.sqlite", tmp_path)
        blob, time = "BLOB", "TEXT"
    else:
        engine = database_engine(request.getfixturevalue("server"))
        blob, time = "BYTEA", "TIMESTAMPTZ"
    with engine.begin() as connection:
        connection.execute(sa.text("DROP TABLE IF EXISTS dumps"))
        connection.execute(
            sa.text(
                f"CREATE TABLE dumps (path TEXT PRIMARY KEY, dump {blob}, saved_as TEXT, kind TEXT, bytes INTEGER, "
                f"taken {time}, sha256 TEXT, says TEXT, station TEXT, quality INTEGER, put_by TEXT)"
            )
        )
        for path, content in {
            "2026/pier-01.bin": LONG, "2026/rock-01.log": SENT, "readme.txt": b"", "../up": b"x", "/rooted": b"x",
        }.items():  # fmt: skip
            connection.execute(
                sa.text(
                    "INSERT INTO dumps VALUES (:path, :dump, 'saved \"as\".bin', NULL, 1, '2026-01-31 12:00:00+00:00', "
                    "NULL, 'of the pier', 'pier', 3, NULL)"
                ),
                {"path": path, "dump": content},
            )
    return engine


@pytest.fixture
def store(engine: sa.Engine) -> WritableTableStore:
    return WritableTableStore("gauges", engine, "dumps", COLUMNS)


def change(engine: sa.Engine, statement: str, **values: object) -> None:
    with engine.begin() as connection:
        connection.execute(sa.text(statement), values)


def put(store: WritableTableStore, text: str, content: bytes, **conditions: bytes) -> bool:
    head = RequestHead("PUT", [(name.replace("_", "-").encode(), value) for name, value in conditions.items()])
    putting = Putting(head, lambda _: None, "tern-lab", "text/x-log", "what it is about")
    with store.begin() as arriving:
        arriving.write(content)
        return store.put(parse_address(text), arriving, putting)[1]


def read(store: TableStore, text: str) -> bytes:
    return b"".join(read_through(store.locate(parse_address(text)).content))


def test_a_row_is_a_file_with_what_its_columns_say(store: TableStore) -> None:
    facts = store.locate(parse_address("gauges/2026/pier-01.bin")).facts
    assert (facts.size, facts.modified, facts.media_type) == (len(LONG), 1769860800.0, None)
    assert (facts.name, facts.description) == ('saved "as".bin', "of the pier")
    assert facts.about == (("station", "pier"), ("quality", "3"))
    assert read(store, "gauges/2026/pier-01.bin") == LONG
    assert read(store, "gauges/readme.txt") == b""


def test_keys_are_paths_and_those_that_are_none_are_left_out(store: TableStore) -> None:
    assert [str(one) for one in store.list(parse_address("gauges/"))] == ["gauges/2026/", "gauges/readme.txt"]
    assert [one.name for one in store.list(parse_address("gauges/2026/"))] == ["pier-01.bin", "rock-01.log"]
    walked = [found.facts.address.path for found in store.walk(parse_address("gauges/"))]
    assert walked == ["2026/pier-01.bin", "2026/rock-01.log", "readme.txt"]
    for absent in ("gauges/none", "gauges/2026", "gauges/README.TXT", "gauges/%", "gauges/2026/pier-01_bin"):
        with pytest.raises(Missing):
            store.locate(parse_address(absent))
    for absent in ("gauges/202/", "gauges/%/", "gauges/2026/pier-01.bin/"):
        with pytest.raises(Missing):
            store.list(parse_address(absent))


def paged(store: TableStore, folder: str, limit: int, after: Address | None = None) -> list[Address]:
    """All of a folder, in pages of `limit`."""
    listed: list[Address] = []
    while some := store.page(parse_address(folder), after, limit):
        assert len(some) <= limit
        listed += some
        after = some[-1]
    return listed


ODD: dict[str, dict[str, object]] = {
    "far.bin": {"taken": 1e300},
    "never.bin": {"taken": "nan"},
    "before.bin": {"taken": -1e12},
    "typed.bin": {"kind": "text/html\r\nSet-Cookie: a=b"},
    "bytes.bin": {"saved_as": b"\xff\x00", "kind": b"text/html", "says": b"x", "station": b"\xff"},
}


@pytest.fixture
def odd(tmp_path: Path) -> Iterator[TableStore]:
    """A table that declares nothing, of which no row is as it should be, but `good.bin`."""
    engine = database_engine("sqlite:///odd.sqlite", tmp_path)
    with engine.begin() as connection:
        connection.execute(sa.text("CREATE TABLE dumps (path, dump, saved_as, kind, bytes, taken, says, station)"))
    for path in (None, None, b"blob.bin", "good.bin", "two.bin", "two.bin", 17, "a/../b.bin", *ODD):
        change(engine, "INSERT INTO dumps (path, dump) VALUES (:path, x'0102')", path=path)
        for column, value in ODD.get(str(path), {}).items():
            change(engine, f"UPDATE dumps SET {column} = :value WHERE path = :path", value=value, path=path)
    # What is no UTF-8 sorts behind all that is.
    for path in ("x'ff'", "x'616eff'"):
        change(engine, f"INSERT INTO dumps (path, dump) VALUES (CAST({path} AS TEXT), x'01')")
    change(engine, "UPDATE dumps SET station = CAST(x'41ff' AS TEXT) WHERE path = 'good.bin'")
    columns = Columns(
        "path", "dump", name="saved_as", media_type="kind", modified="taken", description="says", facts=("station",)
    )
    yield TableStore("gauges", engine, "dumps", columns)
    engine.dispose()


@pytest.mark.parametrize("limit", [1, 2, 3, 100])
def test_an_odd_row_keeps_nobody_from_the_others(odd: TableStore, limit: int) -> None:
    files = sorted(["good.bin", "two.bin", *ODD])
    listed = [one.path for one in paged(odd, "gauges/", limit)]
    assert listed == [one.path for one in odd.list(parse_address("gauges/"))]
    assert [one for one in listed if one in files] == files
    assert {found.facts.address.path for found in odd.walk(parse_address("gauges/"))} == {"good.bin", *ODD}
    assert odd.search(parse_address("gauges/"), "A") == [parse_address("gauges/good.bin")]


def test_what_an_odd_row_says_is_left_out_where_nobody_can_be_told(odd: TableStore) -> None:
    for path in ODD:
        facts = odd.locate(parse_address(f"gauges/{path}")).facts
        assert (facts.size, facts.modified, facts.media_type, facts.name, facts.description) == (2, *[None] * 4)
        assert read(odd, f"gauges/{path}") == b"\x01\x02"
    assert odd.locate(parse_address("gauges/bytes.bin")).facts.about == (("station", "1 bytes"),)
    assert odd.locate(parse_address("gauges/good.bin")).facts.about == (("station", "A\ufffd"),)


def test_a_key_of_several_rows_is_no_file_and_the_log_says_so_once(
    odd: TableStore, caplog: pytest.LogCaptureFixture
) -> None:
    for _ in range(2):
        with pytest.raises(Missing):
            odd.locate(parse_address("gauges/two.bin"))
    (line,) = [line for line in caplog.records if line.message == "store.key-not-unique"]
    assert "'two.bin' is the key of several rows" in line.fields["error"]  # type: ignore[attr-defined]


def test_rows_without_a_key_are_no_files_and_end_every_page(engine: sa.Engine) -> None:
    change(engine, "DROP TABLE IF EXISTS loose")
    change(engine, f"CREATE TABLE loose (path TEXT, dump {'BYTEA' if engine.dialect.name == 'postgresql' else 'BLOB'})")
    for path in (None, "a", None, "b/c", None):
        change(engine, "INSERT INTO loose VALUES (:path, :dump)", path=path, dump=b"x")
    store = TableStore("gauges", engine, "loose", Columns("path", "dump"))
    for limit in (1, 2, 5):
        assert [str(one) for one in paged(store, "gauges/", limit)] == ["gauges/b/", "gauges/a"]


def test_a_key_may_be_a_number(engine: sa.Engine) -> None:
    blob = "BYTEA" if engine.dialect.name == "postgresql" else "BLOB"
    change(engine, "DROP TABLE IF EXISTS numbered")
    change(engine, f"CREATE TABLE numbered (id INTEGER PRIMARY KEY, dump {blob})")
    for number in (1, 2, 10, -3, 0):
        change(engine, "INSERT INTO numbered VALUES (:id, :dump)", id=number, dump=b"%d" % number)
    store = WritableTableStore("gauges", engine, "numbered", Columns("id", "dump"))
    assert [one.path for one in store.list(parse_address("gauges/"))] == ["-3", "0", "1", "10", "2"]
    assert sorted(found.facts.address.path for found in store.walk(parse_address("gauges/"))) == [
        "-3",
        "0",
        "1",
        "10",
        "2",
    ]
    assert read(store, "gauges/10") == b"10"
    for absent in ("01", "1.0", "one", "3", "9" * 30, "1/2", "\u0661"):
        with pytest.raises(Missing):
            store.locate(parse_address(f"gauges/{absent}"))
    assert put(store, "gauges/7", b"seven")
    assert not put(store, "gauges/7", b"another")
    assert read(store, "gauges/7") == b"another"
    assert store.remove(parse_address("gauges/7"), None, Putting(RequestHead("DELETE", []), lambda _: None, "a")) == 1


def test_a_number_goes_nowhere_but_into_a_number(server: str) -> None:
    engine = database_engine(server)
    change(engine, "DROP TABLE IF EXISTS numbered")
    change(engine, "CREATE TABLE numbered (id INTEGER PRIMARY KEY, dump BYTEA)")
    store = WritableTableStore("gauges", engine, "numbered", Columns("id", "dump"))
    with pytest.raises(PathConflict):
        put(store, "gauges/one", b"x")


def test_a_key_may_be_a_uuid(server: str) -> None:
    engine = database_engine(server)
    change(engine, "DROP TABLE IF EXISTS known")
    change(engine, "CREATE TABLE known (id UUID PRIMARY KEY, dump BYTEA)")
    store = WritableTableStore("gauges", engine, "known", Columns("id", "dump"))
    key = "6f1d2c1e-8d6b-4a57-9d4e-0f3a5c7b9e11"
    assert put(store, f"gauges/{key}", b"x")
    assert [one.path for one in store.list(parse_address("gauges/"))] == [key]
    assert read(store, f"gauges/{key}") == b"x"
    for absent in (key.upper(), key.replace("-", ""), "none", key[:-1]):
        with pytest.raises(Missing):
            store.locate(parse_address(f"gauges/{absent}"))


def test_a_text_is_a_file_of_its_utf_8(server: str) -> None:
    engine = database_engine(server)
    change(engine, "DROP TABLE IF EXISTS letters")
    change(engine, "CREATE TABLE letters (path TEXT, letter TEXT)")
    text = "Södra leden: 4 m — grün\n" * 100_000
    change(engine, "INSERT INTO letters VALUES ('a', :text)", text=text)
    store = TableStore("gauges", engine, "letters", Columns("path", "letter"))
    found, whole = store.locate(parse_address("gauges/a")), text.encode()
    assert found.facts.size == len(whole)
    assert read(store, "gauges/a") == whole
    for offset in (1, 2, 1_000_001):  # in the middle of a character as well
        assert found.content.read(offset, 9) == whole[offset : offset + 9]
    with pytest.raises(StoreFault, match="the column 'letter' is text, and files may be any bytes; make it bytea"):
        WritableTableStore("gauges", engine, "letters", Columns("path", "letter"))


def test_a_view_is_a_store_where_a_column_tells_of_changes(server: str) -> None:
    engine = database_engine(server)
    change(engine, "DROP TABLE IF EXISTS kept CASCADE")
    change(engine, "CREATE TABLE kept (path TEXT, dump BYTEA, taken TIMESTAMPTZ)")
    change(engine, "CREATE VIEW seen AS SELECT 'all/' || path AS path, dump, taken FROM kept")
    change(engine, "INSERT INTO kept VALUES ('a', :dump, '2026-01-31')", dump=b"x")
    with pytest.raises(StoreFault, match="postgresql does not tell whether a row of 'seen' has changed; give columns"):
        TableStore("gauges", engine, "seen", Columns("path", "dump"))
    store = TableStore("gauges", engine, "seen", Columns("path", "dump", modified="taken"))
    found = store.locate(parse_address("gauges/all/a"))
    assert read(store, "gauges/all/a") == b"x"
    change(engine, "UPDATE kept SET dump = :dump, taken = '2026-02-01'", dump=b"y")
    assert not found.content.is_unaltered()


@pytest.mark.parametrize("kind", ["TIMESTAMPTZ", "TIMESTAMP", "DATE"])
def test_times_without_an_end_keep_nobody_from_the_others(server: str, kind: str) -> None:
    engine = database_engine(server)
    change(engine, "DROP TABLE IF EXISTS lasting")
    change(engine, f"CREATE TABLE lasting (path TEXT, dump BYTEA, taken {kind}, ends {kind})")
    for path, moment in {
        "a": "2026-01-31", "b": "infinity", "c": "-infinity", "d": "0044-03-15 BC", "e": "200000-01-01", "f": None
    }.items():  # fmt: skip
        change(
            engine,
            f"INSERT INTO lasting VALUES (:path, :dump, CAST(:at AS {kind}), 'infinity')",
            path=path,
            dump=b"x",
            at=moment,
        )
    store = TableStore("gauges", engine, "lasting", Columns("path", "dump", modified="taken", facts=("taken", "ends")))
    assert [one.path for one in store.list(parse_address("gauges/"))] == list("abcdef")
    told = {found.facts.address.path: found.facts for found in store.walk(parse_address("gauges/"))}
    assert told["a"].modified == 1769817600.0
    assert [name for name, _ in told["a"].about] == ["taken"]
    assert {told[path].modified for path in "bcdef"} == {None}
    assert all(told[path].about == () for path in "bcdef")


def test_a_search_for_what_no_text_can_hold_finds_nothing(store: TableStore) -> None:
    assert store.search(parse_address("gauges/"), "pi\0er") == []
    assert store.search(parse_address("gauges/"), "PIER") != []


def test_nothing_is_put_where_a_key_is_of_several_rows(engine: sa.Engine) -> None:
    change(engine, "DROP TABLE IF EXISTS loose")
    change(engine, f"CREATE TABLE loose (path TEXT, dump {'BYTEA' if engine.dialect.name == 'postgresql' else 'BLOB'})")
    for _ in range(2):
        change(engine, "INSERT INTO loose VALUES ('a', :dump)", dump=b"x")
    store = WritableTableStore("gauges", engine, "loose", Columns("path", "dump"))
    with pytest.raises(StoreFault, match="'a' is the key of several rows"):
        put(store, "gauges/a", b"y")
    with engine.connect() as connection:
        assert connection.execute(sa.text("SELECT count(*) FROM loose")).scalar() == 2


def test_a_table_is_looked_at_once_its_database_answers(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    engine = database_engine("sqlite:///gauges.sqlite", tmp_path)
    change(engine, "CREATE TABLE dumps (path TEXT, dump BLOB)")
    change(engine, "INSERT INTO dumps VALUES ('a', x'01')")
    with monkeypatch.context() as away:
        away.setattr(sa, "inspect", lambda _: (_ for _ in ()).throw(sa.exc.OperationalError("", None, OSError("away"))))
        store = TableStore("gauges", engine, "dumps", Columns("path", "dump"))
        lacks = TableStore("gauges", engine, "dumps", Columns("path", "dump", name="saved"))
    assert read(store, "gauges/a") == b"\x01"
    with pytest.raises(StoreFault, match="has no column 'saved'"):
        lacks.locate(parse_address("gauges/a"))


def test_pages_are_the_listing_in_its_order_whatever_lies_between(store: TableStore, engine: sa.Engine) -> None:
    for path in ("a-b/x", "a/x", "a/y/z", "a//c", "ab/x", "Z/x", "ü/y", "b", "B", "_", "ü", "a\\b", "c/", "./d", "e"):
        change(engine, "INSERT INTO dumps (path, dump) VALUES (:path, :dump)", path=path, dump=b"x")
    change(engine, "INSERT INTO dumps (path) VALUES ('f without a content')")
    whole = store.list(parse_address("gauges/"))
    assert [one.path for one in whole] == [
        "2026/", "Z/", "a-b/", "a/", "ab/", "c/", "ü/", "B", "_", "b", "e", "readme.txt", "ü",
    ]  # fmt: skip
    for limit in (1, 2, 3, 5, 50):
        assert paged(store, "gauges/", limit) == whole
        assert paged(store, "gauges/a/", limit) == store.list(parse_address("gauges/a/"))
    change(engine, "DELETE FROM dumps WHERE path LIKE 'a-b/%' OR path = 'b'")
    assert [one.path for one in paged(store, "gauges/", 2, whole[2])][:2] == ["a/", "ab/"], "it went on after one gone"
    assert [one.path for one in paged(store, "gauges/", 2, whole[9])] == ["e", "readme.txt", "ü"]
    with pytest.raises(Missing):
        store.page(parse_address("gauges/none/"), None, 5)


def test_any_part_is_read_as_it_is(store: TableStore) -> None:
    source = store.locate(parse_address("gauges/2026/pier-01.bin")).content
    chance = random.Random(3)
    for _ in range(60):
        begin = chance.randrange(len(LONG))
        count = chance.randrange(1, min(300_000, len(LONG) - begin) + 1)
        assert source.read(begin, count) == LONG[begin : begin + count]


def test_pieces_are_of_the_part_that_was_asked_for(store: TableStore) -> None:
    source = store.locate(parse_address("gauges/2026/pier-01.bin")).content

    async def part(begin: int, count: int) -> bytes:
        return b"".join([piece async for piece in source.pieces(begin, count)])

    assert asyncio.run(part(0, len(LONG))) == LONG
    assert asyncio.run(part(1_048_575, 1_048_578)) == LONG[1_048_575:2_097_153]


@pytest.mark.parametrize("how", ["content alone", "longer", "removed", "removed and put again"])
def test_a_row_that_is_altered_in_the_middle_is_broken_off(
    store: TableStore, engine: sa.Engine, how: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(blobs, "IDLE", 0.0)
    source = store.locate(parse_address("gauges/2026/pier-01.bin")).content
    other = bytes(len(LONG)) if how == "content alone" else LONG + b"more"

    async def part() -> bytes:
        taken = b""
        async for piece in source.pieces(0, len(LONG)):
            taken += piece
            if len(taken) == len(piece):
                if how.startswith("removed"):
                    change(engine, "DELETE FROM dumps WHERE path = '2026/pier-01.bin'")
                if how == "removed and put again":
                    change(engine, "INSERT INTO dumps (path, dump) VALUES ('2026/pier-01.bin', :dump)", dump=other)
                if not how.startswith("removed"):
                    change(engine, "UPDATE dumps SET dump = :dump WHERE path = '2026/pier-01.bin'", dump=other)
                await asyncio.sleep(0.3)
        return taken

    with pytest.raises(ContentChanged):
        asyncio.run(part())


def test_what_nobody_reads_holds_no_reader_of_the_database(tmp_path: Path) -> None:
    engine = database_engine("sqlite:///plain.sqlite", tmp_path)
    with engine.begin() as connection:
        connection.execute(sa.text("CREATE TABLE dumps (path TEXT, dump BLOB)"))
        connection.execute(sa.text("INSERT INTO dumps VALUES ('a', :dump)"), {"dump": LONG})
    store = TableStore("gauges", engine, "dumps", Columns("path", "dump"))
    assert store.locate(parse_address("gauges/a")).content.read(0, 10) == LONG[:10]
    # Without a write-ahead log nobody writes while somebody reads; this waits for the handle to be let go.
    with sqlite3.connect(tmp_path / "plain.sqlite", timeout=5) as other:
        other.execute("UPDATE dumps SET dump = 'x'")


def test_rows_are_put_replaced_and_removed_with_what_is_known_of_them(
    store: WritableTableStore, engine: sa.Engine
) -> None:
    assert put(store, "gauges/2026/new.log", SENT)
    with engine.connect() as connection:
        row = connection.execute(sa.text("SELECT * FROM dumps WHERE path = '2026/new.log'")).mappings().one()
    assert (row["bytes"], row["kind"], row["says"], row["put_by"]) == (
        len(SENT), "text/x-log", "what it is about", "tern-lab",
    )  # fmt: skip
    assert row["sha256"] == hashlib.sha256(SENT).hexdigest()
    found = store.locate(parse_address("gauges/2026/new.log"))
    assert found.facts.sha256 == hashlib.sha256(SENT).digest()
    assert found.facts.modified is not None
    assert read(store, "gauges/2026/new.log") == SENT
    assert not put(store, "gauges/2026/new.log", LONG), "it is there already"
    assert read(store, "gauges/2026/new.log") == LONG
    assert not put(store, "gauges/2026/new.log", b"")
    assert read(store, "gauges/2026/new.log") == b""
    assert (
        store.remove(parse_address("gauges/2026/new.log"), None, Putting(RequestHead("DELETE", []), lambda _: None))
        == 1
    )
    with pytest.raises(Missing):
        store.locate(parse_address("gauges/2026/new.log"))


def test_what_is_not_to_be_put_changes_nothing(store: WritableTableStore) -> None:
    before = store.locate(parse_address("gauges/readme.txt")).facts
    with pytest.raises(Refusal, match="is there already"):
        put(store, "gauges/readme.txt", b"x", if_none_match=b"*")
    with pytest.raises(Refusal, match="not, or no longer"):
        put(store, "gauges/readme.txt", b"x", if_match=b'"another"')
    with pytest.raises(PathConflict):
        put(store, "gauges/2026", b"x")
    with pytest.raises(PathConflict):
        put(store, "gauges/readme.txt/below", b"x")
    store.forget(parse_address("gauges/readme.txt"))
    assert store.locate(parse_address("gauges/readme.txt")).facts == before


@given(key=st.text(min_size=1, max_size=12), folder=st.text(alphabet="a/'\"%_;-\\ü", max_size=6))
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_keys_are_values_and_never_statements(small: TableStore, key: str, folder: str) -> None:
    """Whatever is asked for: the row with exactly this key, or nothing; and the table stays as it is."""
    text = f"small/{folder}{key}"
    try:
        address = parse_address(text)
    except BadAddress:
        return
    engine = small._engine
    change(engine, "DELETE FROM dumps")
    change(engine, "INSERT INTO dumps VALUES (:path, :dump), ('other', 'other')", path=address.path, dump=b"exactly")
    small.forget(address)
    if not address.folder and address.path != "other":
        assert small.locate(address).content.read(0, 7) == b"exactly"
        parent = parse_address(text.rpartition("/")[0] + "/")
        assert address in small.list(parent)
        assert paged(small, str(parent), 1) == small.list(parent)
    with engine.connect() as connection:
        assert connection.execute(sa.text("SELECT count(*) FROM dumps")).scalar() == 2


@pytest.fixture(scope="module")
def small() -> Iterator[TableStore]:
    with tempfile.TemporaryDirectory() as folder:
        engine = database_engine("sqlite:///small.sqlite", Path(folder))
        change(engine, "CREATE TABLE dumps (path TEXT, dump BLOB)")
        yield TableStore("small", engine, "dumps", Columns("path", "dump"))


def test_what_cannot_be_read_so_is_said_at_the_start(tmp_path: Path) -> None:
    engine = database_engine("sqlite:///some.sqlite", tmp_path)
    change(engine, "CREATE TABLE dumps (path TEXT PRIMARY KEY, dumped BLOB) WITHOUT ROWID")
    for table, columns, says in (
        ("dump", Columns("path", "dumped"), "no table 'dump'"),
        ("dumps", Columns("path", "dump"), "no column 'dump' .did you mean 'dumped'"),
        ("dumps", Columns("path", "dumped"), "WITHOUT ROWID"),
    ):
        with pytest.raises(StoreFault, match=says):
            TableStore("gauges", engine, table, columns)


def test_a_database_that_tells_no_change_needs_a_column_that_does(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    engine = database_engine("sqlite:///gauges.sqlite", tmp_path)
    change(engine, "CREATE TABLE dumps (path TEXT, dump BLOB, sha256 TEXT, taken TEXT)")
    monkeypatch.setattr(engine.dialect, "name", "another")
    with pytest.raises(StoreFault, match="another does not tell whether a row of 'dumps' has changed; give columns"):
        TableStore("gauges", engine, "dumps", Columns("path", "dump"))
    for columns in (Columns("path", "dump", digest="sha256"), Columns("path", "dump", modified="taken")):
        assert TableStore("gauges", engine, "dumps", columns).kind == "table"


def test_a_name_is_one_line_and_not_too_long(tmp_path: Path) -> None:
    engine = database_engine("sqlite:///gauges.sqlite", tmp_path)
    change(engine, "CREATE TABLE dumps (path TEXT, dump BLOB, saved TEXT)")
    change(engine, "INSERT INTO dumps VALUES ('a', x'01', :name)", name="of\nthe " + "x" * 300)
    store = TableStore("gauges", engine, "dumps", Columns("path", "dump", name="saved"))
    assert store.locate(parse_address("gauges/a")).facts.name == "of the " + "x" * 248


def test_a_database_that_is_away_is_told_when_it_is_needed() -> None:
    engine = database_engine("postgresql+psycopg://nobody@127.0.0.1:9/none?connect_timeout=1")
    store = TableStore("gauges", engine, "dumps", COLUMNS, timeout=5)
    with pytest.raises(StoreFault, match="store 'gauges': OperationalError"):
        store.locate(parse_address("gauges/a"))
