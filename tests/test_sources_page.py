"""docs/sources.md as it stands: its settings, put together, are a service, and each of its stores delivers."""

from __future__ import annotations

import io
import re
import sqlite3
import threading
from collections.abc import Iterator
from pathlib import Path

import boto3
import pytest
from moto.server import ThreadedMotoServer
from PIL import Image

from tests.rules import rule
from tests.running import Service, make_folder
from tests.stores.test_origin import CONTENT, Handler, Odd

PAGE = (Path(__file__).parents[1] / "docs" / "sources.md").read_text("utf-8")
RULES = rule("anyone", "*/**", "list read bundle link put manage", "everyone reads")


def blocks(kind: str) -> str:
    return "\n".join(re.findall(rf"```{kind}\n(.*?)```", PAGE, re.DOTALL))


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("sources") / "service"
    objects = ThreadedMotoServer(ip_address="127.0.0.1", port=0)
    objects.start()
    where = "http://{}:{}".format(*objects.get_host_and_port())
    keys = {"aws_access_key_id": "survey", "aws_secret_access_key": "survey", "region_name": "us-east-1"}
    client = boto3.client("s3", endpoint_url=where, **keys)
    client.create_bucket(Bucket="surveys")
    client.put_object(Bucket="surveys", Key="1998/grid.bin", Body=b"an older survey")
    with Odd(("127.0.0.1", 0), Handler) as web:
        threading.Thread(target=web.serve_forever, daemon=True).start()
        settings = blocks("toml").replace("https://objects.example.org", where)
        settings = settings.replace(
            "https://archive.example.org/surveys/", f"http://127.0.0.1:{web.server_port}/files/"
        )
        make_folder(folder, rules=RULES, settings=settings)
        (folder / "survey_made.py").write_text(blocks("python"))
        (folder / "charts").mkdir()
        Image.new("RGB", (800, 600), "navy").save(folder / "charts" / "north.png")
        with sqlite3.connect(folder / "gauges.sqlite") as database:
            database.execute("CREATE TABLE readings (station TEXT, month TEXT, at TEXT, level REAL)")
            database.execute("INSERT INTO readings VALUES ('tern-rock', '2026-01', '2026-01-01', 1.5)")
            database.execute(
                "CREATE TABLE dumps (path TEXT PRIMARY KEY, dump BLOB, kind TEXT, taken TEXT, sha256 TEXT, "
                "saved_as TEXT, subject TEXT, station TEXT)"
            )
            database.execute(
                "INSERT INTO dumps VALUES ('pier/1.dump', x'0102', 'application/x-dump', '2026-01-01', NULL, "
                "'dump one.bin', 'The first', 'pier')"
            )
        service = Service.start(folder, PYTHONPATH=str(folder))
        yield service
        assert service.stop() == 0
        web.shutdown()
    objects.stop()


@pytest.mark.parametrize(
    ("address", "content"),
    [
        ("gauges/pier/1.dump", b"\1\2"),
        ("tables/gauges/tern-rock/2026-01.csv", b"at,level\r\n2026-01-01,1.5\r\n"),
        ("tables/gauges/tern-rock/2026-01.jsonl", b'{"at": "2026-01-01", "level": 1.5}\n'),
        ("tables/tides/pier-2026.csv", b"\xef\xbb\xbfplace,year,height_m\r\npier,2026,1.42\r\n"),
        ("tables/drawings/pier.svg", b"<svg xmlns='http://www.w3.org/2000/svg'><text>pier</text></svg>"),
        ("archive/1998/grid.bin", b"an older survey"),
        ("mirror/a.bin", CONTENT),
    ],
)
def test_each_store_of_the_page_delivers(service: Service, address: str, content: bytes) -> None:
    reply = service.get(f"/get/{address}")
    assert (reply.status_code, reply.content) == (200, content)


def test_the_rest_is_as_the_page_says(service: Service) -> None:
    assert service.get("/get/tables/my-downloads.csv", "ann").text.splitlines()[1] == "ann,admins"
    dump = service.get("/get/gauges/pier/1.dump")
    assert 'filename="dump one.bin"' in dump.headers["content-disposition"]
    thumb = service.get("/get/charts/north.png?rendition=thumb")
    assert Image.open(io.BytesIO(thumb.content)).size == (320, 240)
    with service.client("ann") as client:
        put = client.put("/api/files/models/bank.grid?description=after%20dredging", content=b"depths")
        assert put.status_code == 201
    assert service.get("/api/files?in=models/&search=dredging").json()["files"][0]["name"] == "bank.grid"


def test_the_table_of_values_is_the_codes_own() -> None:
    from invio.producers import values

    told = [line for line in str(values.__doc__).splitlines() if line.startswith("| ")]
    assert len(told) > 10
    assert all(line in PAGE for line in told)
