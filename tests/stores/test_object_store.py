"""An object store by its own protocol: S3 as a server of the test's own speaks it, reached by fsspec's client."""

from __future__ import annotations

import asyncio
import logging
import random
from collections.abc import Iterator

import boto3
import pytest
from moto.server import ThreadedMotoServer

from invio.core.addresses import Address, parse_address
from invio.core.readable import ContentChanged
from invio.stores.remote import RemoteStore
from invio.stores.sources import read_through
from invio.stores.store import Missing

CONTENT = random.Random(5).randbytes(20_000_000)
KEYS = {"aws_access_key_id": "survey", "aws_secret_access_key": "survey", "region_name": "us-east-1"}


@pytest.fixture(scope="module")
def server() -> Iterator[str]:
    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0)
    server.start()
    yield "http://{}:{}".format(*server.get_host_and_port())
    server.stop()


@pytest.fixture(scope="module")
def bucket(server: str) -> object:
    client = boto3.client("s3", endpoint_url=server, **KEYS)
    client.create_bucket(Bucket="surveys")
    client.put_object(Bucket="surveys", Key="1998/grid.bin", Body=CONTENT, ContentType="application/x-grid")
    for number in range(200):
        client.put_object(Bucket="surveys", Key=f"many/{number:03}.txt", Body=b"x" * number)
    return client


@pytest.fixture
def store(server: str, bucket: object) -> RemoteStore:
    options = {"key": "survey", "secret": "survey", "endpoint_url": server}
    return RemoteStore("far", "s3://surveys", options, timeout=20)


def test_an_object_is_had_whole_and_in_parts_with_its_own_type(store: RemoteStore) -> None:
    found = store.locate(parse_address("far/1998/grid.bin"))
    assert (found.facts.size, found.facts.media_type) == (len(CONTENT), "application/x-grid")
    assert b"".join(read_through(found.content)) == CONTENT

    async def part() -> bytes:
        return b"".join([piece async for piece in found.content.pieces(3, len(CONTENT) - 7)])

    assert asyncio.run(part()) == CONTENT[3:-4]
    with pytest.raises(Missing):
        store.locate(parse_address("far/1998/none.bin"))


def test_a_listing_tells_of_its_files_without_a_call_for_each(store: RemoteStore) -> None:
    calls = 0
    look_up = store.look_up

    def counted(address: Address) -> object:
        nonlocal calls
        calls += 1
        return look_up(address)

    store.look_up = counted  # type: ignore[assignment,method-assign]
    listed = store.list(parse_address("far/many/"))
    sizes = [store.glance(address).facts.size for address in listed]
    assert sizes == list(range(200))
    assert calls == 0
    one = store.glance(listed[7])
    assert one.facts.tag == look_up(listed[7]).tag, "a listing and a look at one file agree"
    assert one.content.read(0, 7) == b"x" * 7


def test_an_object_that_is_replaced_meanwhile_is_broken_off(store: RemoteStore, bucket: object) -> None:
    bucket.put_object(Bucket="surveys", Key="new.bin", Body=CONTENT)  # type: ignore[attr-defined]
    source = store.locate(parse_address("far/new.bin")).content

    async def part() -> bytes:
        taken = b""
        async for piece in source.pieces(0, len(CONTENT)):
            if not taken:
                bucket.put_object(Bucket="surveys", Key="new.bin", Body=CONTENT[::-1])  # type: ignore[attr-defined]
            taken += piece
        return taken

    with pytest.raises(ContentChanged):
        asyncio.run(part())
