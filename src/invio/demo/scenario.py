"""The Brackwater Sound Survey: a made-up hydrographic office, its files, people and rules.

Everything comes from a fixed seed and is made when it is not there; nothing large is shipped.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import socket
import sqlite3
import tomllib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import urlsplit

from invio.core.addresses import Address
from invio.core.errors import ConfigurationError
from invio.core.http.request_head import RequestHead
from invio.core.links.keys import new_keys
from invio.core.versions import Putting
from invio.demo.archive import Archive, serving
from invio.demo.drawings import chart_sheet, notice_page, save
from invio.demo.office import ARCHIVE_KEY, RULES, SETTINGS, TEXTS
from invio.demo.tides import height
from invio.records.database import open_database, write
from invio.records.recipients import add_token, save_recipient
from invio.records.versions import VersionRecords
from invio.service.configuration import write_keys
from invio.stores.managed import ManagedStore

SEED = 20260115
MIB = 1024 * 1024
# When every file of the demo says it was last changed, day by day.
_EPOCH = datetime(2026, 1, 15, 8, 0, tzinfo=UTC)
_DONE = "complete.txt"


@dataclass(frozen=True, slots=True)
class Person:
    """Somebody of the demo, with the groups they are in."""

    id: str
    name: str
    groups: tuple[str, ...]


PEOPLE = (
    Person("harbour-office", "Harbour office", ("office",)),
    Person("pilot-7", "Pilot 7", ("pilots",)),
    Person("tern-lab", "Tern laboratory", ("researchers",)),
)

_CHARTS = {
    "approach/north-channel.pdf": "North Channel",
    "approach/north-channel.png": "North Channel",
    "approach/Södra leden – översikt.pdf": "Södra leden",
    "approach/harbour entrance (sheet 2).png": "Harbour entrance, sheet 2",
    "approach/潮汐観測所 配置図.png": "Tide stations",
    "harbour/inner-basin.pdf": "Inner basin",
    "harbour/fuel pier.png": "Fuel pier",
    "drafts/west-bank-2027.pdf": "West Bank (draft)",
}

_NOTICES = {
    "2026/001-north-channel-buoy.pdf": (
        "Notice 1/2026: North Channel buoy",
        [
            "Buoy NC-4 has been moved 120 m to the east.",
            "Charts affected: North Channel.",
            "Valid until further notice.",
        ],
    ),
    "2026/002-dredging.pdf": (
        "Notice 2/2026: dredging",
        ["Dredging in the inner basin from 2 to 20 February.", "Keep 50 m from the dredger.", "Listen on channel 12."],
    ),
}
_NOTICE_TEXTS = {
    "README.txt": "Notices to mariners, Brackwater Sound Survey.\nPDF for print, text for everybody else.\n",
    "2026/003-light-on-tern-rock.txt": "Notice 3/2026: light on Tern Rock\n\nFl(2) 10s from 1 March on.\n",
    "2026/004-änderung der Fahrrinne.txt": "Notice 4/2026: Änderung der Fahrrinne\n\nAuf 80 m verengt.\n",
    "2026/withdrawn.txt": "",
}


def prepare(folder: Path, *, fresh: bool, say: Callable[[str], None]) -> dict[str, str]:
    """Makes what is missing of the demo in `folder`; gives each person's token.

    `fresh` empties the folder first, if it is one that the demo made. `say` is told of each step.
    """
    mark = folder / _DONE
    if fresh and folder.exists() and any(folder.iterdir()):
        if not mark.exists() and not (folder / "invio.toml").exists():
            raise FileExistsError(f"{folder} is not a folder of the demo's; choose another with --data")
        shutil.rmtree(folder)
    folder.mkdir(parents=True, exist_ok=True)
    if not mark.exists():
        (folder / "invio.toml").write_text(SETTINGS.replace("PORT", str(_free_port())), "utf-8")
        (folder / "rules.toml").write_text(RULES, "utf-8")
        (folder / "pages").mkdir(exist_ok=True)
        (folder / "pages" / "texts.toml").write_text(TEXTS, "utf-8")
        for step, make in _STEPS:
            say(step)
            make(folder)
        mark.write_text("The demo's data is complete. 'invio demo --fresh' makes it anew.\n", "utf-8")
    if not (folder / "keys.json").exists():
        write_keys(new_keys(), folder / "keys.json")
    return _people(folder)


def _free_port() -> int:
    with socket.socket() as asked:
        asked.bind(("127.0.0.1", 0))
        port: int = asked.getsockname()[1]
        return port


@contextmanager
def other_system(folder: Path) -> Iterator[None]:
    """The archive, while the service runs.

    Raises:
        ConfigurationError: its port is in use.
    """
    settings = tomllib.loads((folder / "invio.toml").read_text("utf-8"))
    url = urlsplit(settings.get("stores", {}).get("archive", {}).get("url", ""))
    if url.scheme != "survey-archive" or url.port is None:
        yield  # somebody pointed the store elsewhere
        return
    try:
        archive = Archive(folder / "files" / "archive", url.port, ARCHIVE_KEY)
    except OSError as error:
        raise ConfigurationError(
            f"port {url.port}, where the demo's archive is to be, cannot be had ({error.strerror}); "
            "end what uses it, or give another in the demo's invio.toml"
        ) from None
    with serving(archive):
        yield


def _people(folder: Path) -> dict[str, str]:
    """Adds whoever is missing, and keeps the tokens that demo.json already tells."""
    known: dict[str, str] = {}
    people = folder / "demo.json"
    records = _records(folder)
    if people.exists() and records.exists():
        known = {name: person["token"] for name, person in json.loads(people.read_text("utf-8"))["people"].items()}
    engine = open_database(records)
    try:
        with write(engine).begin() as connection:
            for person in PEOPLE:
                save_recipient(connection, person.id, person.name, person.groups)
                if person.id not in known:
                    known[person.id] = add_token(connection, person.id, "demo")
    finally:
        engine.dispose()
    return known


def _placed(folder: Path, store: str, path: str) -> Path:
    target = folder / "files" / store / path
    target.parent.mkdir(parents=True, exist_ok=True)
    return target


def _dated(path: Path, day: int) -> None:
    moment = (_EPOCH + timedelta(days=day)).timestamp()
    os.utime(path, (moment, moment))


def _make_notices(folder: Path) -> None:
    for day, (path, (title, lines)) in enumerate(_NOTICES.items()):
        target = _placed(folder, "notices", path)
        save(notice_page(title, lines), target)
        _dated(target, day)
    for day, (path, text) in enumerate(_NOTICE_TEXTS.items()):
        target = _placed(folder, "notices", path)
        target.write_text(text, "utf-8")
        _dated(target, day)


def _make_charts(folder: Path) -> None:
    for day, (path, title) in enumerate(_CHARTS.items()):
        target = _placed(folder, "charts", path)
        save(chart_sheet(title, SEED + day), target)
        _dated(target, day)


def _make_soundings(folder: Path) -> None:
    """Sounding grids: little-endian 16-bit depths in centimetres, row by row."""
    chance = random.Random(SEED)
    for day, (path, size) in enumerate(
        {
            "soundings/west-bank-5m.grid": 256,
            "soundings/tern-rock-1m.grid": 24,
            "soundings/inner-basin-1m.grid": 3,
        }.items()
    ):
        target = _placed(folder, "charts", path)
        with target.open("wb") as file:
            block = bytearray(chance.randbytes(MIB))
            for number in range(size):
                # Every block differs from every other, so that a mixed-up download would show.
                block[:8] = number.to_bytes(8, "little")
                file.write(block)
        _dated(target, day)


_SURVEYS = {"1987/lead-line": 2, "1998/single-beam": 6, "2009/multi-beam": 24}


def _make_archive(folder: Path) -> None:
    """Older surveys: a grid each, as the soundings, and what is known of it."""
    chance = random.Random(SEED + 1)
    for day, (name, size) in enumerate(_SURVEYS.items()):
        grid = _placed(folder, "archive", f"surveys/{name}.grid")
        grid.write_bytes(chance.randbytes(MIB) * size)
        about = _placed(folder, "archive", f"surveys/{name}.txt")
        year, _, method = name.partition("/")
        about.write_text(f"Survey of {year}, by {method.replace('-', ' ')}.\nDepths in centimetres.\n", "utf-8")
        for file in (grid, about):
            _dated(file, day - 4000)


_MODELS = {"west-bank/sea-floor.grid": 3, "inner-basin/sea-floor.grid": 2, "tern-rock/sea-floor.grid": 1}


def _make_models(folder: Path) -> None:
    """Sea-floor models, each version a little finer than the one before; put as the service would."""
    chance = random.Random(SEED + 2)
    engine = open_database(_records(folder))
    try:
        store = ManagedStore("models", folder / "files" / "models", VersionRecords(engine, "models"))
        putting = Putting(RequestHead("PUT", []), lambda _: None, "tern-lab")
        for path, count in _MODELS.items():
            for number in range(1, count + 1):
                with store.begin() as arriving:
                    arriving.write(chance.randbytes(number * MIB // 2))
                    store.put(Address("models", path), arriving, putting)
    finally:
        engine.dispose()


def _records(folder: Path) -> Path:
    (folder / "records").mkdir(exist_ok=True)
    return folder / "records" / "records.sqlite"


_STATIONS = (("pier", 0.0), ("tern-rock", -0.12), ("west-bank", 0.08))
_MONTHS = ((1, 31), (2, 28), (3, 31))


def _make_gauges(folder: Path) -> None:
    """Readings of three gauges, every ten minutes of three months; and what their loggers wrote, week by week."""
    chance = random.Random(SEED)
    path = folder / "gauges.sqlite"
    path.unlink(missing_ok=True)
    connection = sqlite3.connect(path)
    # Of larger pages a place in a long content is found sooner.
    connection.execute("PRAGMA page_size = 32768")
    connection.execute("CREATE TABLE readings (station TEXT, time_utc TEXT, level_m REAL, water_c REAL)")
    connection.execute("CREATE INDEX by_station ON readings (station, time_utc)")
    connection.execute(
        "CREATE TABLE dumps (path TEXT PRIMARY KEY, dump BLOB NOT NULL, kind TEXT, taken TEXT, subject TEXT, "
        "station TEXT, firmware TEXT)"
    )
    start = datetime(2026, 1, 1, tzinfo=UTC)
    rows = []
    for number in range(sum(days for _, days in _MONTHS) * 144):
        at = start + timedelta(minutes=10 * number)
        for station, offset in _STATIONS:
            level = height(at) + offset + chance.gauss(0, 0.015)
            rows.append(
                (station, at.strftime("%Y-%m-%dT%H:%MZ"), round(level, 3), round(4.2 + chance.gauss(0, 0.3), 1))
            )
    connection.executemany("INSERT INTO readings VALUES (?, ?, ?, ?)", rows)
    connection.executemany("INSERT INTO dumps VALUES (?, ?, ?, ?, ?, ?, ?)", _dumps(start, chance))
    connection.commit()
    connection.close()


def _dumps(start: datetime, chance: random.Random) -> Iterator[tuple[object, ...]]:
    """What each logger was read out as, every second week."""
    for station, _ in _STATIONS:
        for week in range(2, 14, 2):
            taken = start + timedelta(weeks=week)
            subject = f"Weeks {week - 1} and {week}" + (", after the battery was changed" if week == 6 else "")
            yield (
                f"{station}/{taken:%Y-%m-%d}.dump", chance.randbytes(200_000 + 8_000 * week),
                "application/octet-stream", taken.isoformat(), subject, station, "3.1" if week < 6 else "3.2",
            )  # fmt: skip


_STEPS: tuple[tuple[str, Callable[[Path], None]], ...] = (
    ("notices to mariners", _make_notices),
    ("chart sheets", _make_charts),
    ("sounding grids, 283 MiB", _make_soundings),
    ("older surveys", _make_archive),
    ("sea-floor models", _make_models),
    ("gauge readings, and what the loggers wrote", _make_gauges),
)


def write_card(folder: Path, url: str, tokens: dict[str, str]) -> None:
    """Writes demo.json: where the service is, where the keys are, and who the people are."""
    card = {
        "url": url,
        "console": f"{url}/console/",
        "keys": str((folder / "keys.json").resolve()),
        "people": {person.id: {"token": tokens[person.id], "groups": list(person.groups)} for person in PEOPLE},
    }
    partial = folder / "demo.json.new"
    descriptor = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w", encoding="utf-8") as file:
        json.dump(card, file, indent=2)
        file.write("\n")
    partial.replace(folder / "demo.json")
