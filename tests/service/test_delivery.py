"""A request's way through the running service, as clients of every kind send it."""

from __future__ import annotations

import itertools
import subprocess
import threading
import time
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.running import Service, get_raw, raw

Start = Callable[..., Service]
FILES = {
    "a.txt": b"tide table\n",
    "deep/b.bin": bytes(range(256)) * 4000,
    "empty.dat": b"",
    "Å und 潮 (1).txt": b"names",
}


@pytest.fixture(scope="module")
def service(start_shared: Start) -> Service:
    return start_shared(files=FILES)


@pytest.fixture
def own(start: Start) -> Service:
    """One that a test may alter or end, or in which nothing else is to have happened."""
    return start(files=FILES)


def test_a_file_is_delivered_whole_with_its_headers(service: Service) -> None:
    answer = service.get("/get/files/deep/b.bin")
    assert answer.content == FILES["deep/b.bin"]
    assert answer.headers["content-length"] == str(len(answer.content))
    assert answer.headers["content-type"] == "application/octet-stream"
    assert answer.headers["x-content-type-options"] == "nosniff"
    assert "date" in answer.headers
    assert "server" not in answer.headers


def test_head_says_what_get_would_and_delivers_nothing(own: Service) -> None:
    head, get = (get_raw(own.port, "/get/files/a.txt", method=method) for method in ("HEAD", "GET"))
    volatile = {"date"}
    assert {k: v for k, v in head.headers.items() if k not in volatile} == {
        k: v for k, v in get.headers.items() if k not in volatile
    }
    assert len(own.transfers()) == 1


def test_a_part_a_repeat_and_a_range_beyond(service: Service) -> None:
    whole = service.get("/get/files/deep/b.bin")
    tag = whole.headers["etag"]
    part = service.get("/get/files/deep/b.bin", Range="bytes=1000-1999")
    assert (part.status_code, part.content) == (206, whole.content[1000:2000])
    assert part.headers["content-range"] == f"bytes 1000-1999/{len(whole.content)}"
    assert service.get("/get/files/deep/b.bin", If_None_Match=tag).status_code == 304
    beyond = service.get("/get/files/deep/b.bin", Range=f"bytes={len(whole.content)}-")
    assert beyond.status_code == 416
    assert beyond.headers["content-range"] == f"bytes */{len(whole.content)}"
    assert beyond.json()["reason"] == "range"
    assert service.get("/get/files/a.txt", If_Match='"other"').status_code == 412


def test_a_file_that_changed_gets_another_tag_and_is_sent_whole(own: Service) -> None:
    tag = own.get("/get/files/a.txt").headers["etag"]
    (own.folder / "files" / "a.txt").write_bytes(b"another content")
    answer = own.get("/get/files/a.txt", Range="bytes=2-", If_Range=tag)
    assert (answer.status_code, answer.content) == (200, b"another content")
    assert answer.headers["etag"] != tag


def test_an_empty_file_is_delivered_and_complete(own: Service) -> None:
    answer = own.get("/get/files/empty.dat")
    assert (answer.status_code, answer.content) == (200, b"")
    assert [shown["state"] for shown in own.transfers()] == ["complete"]


def test_curl_resumes_half_a_file_byte_for_byte_and_keeps_its_name(service: Service, tmp_path: Path) -> None:
    target = tmp_path / "got.bin"
    target.write_bytes(FILES["deep/b.bin"][:300_000])
    subprocess.run(
        ["curl", "-sS", "-C", "-", "-o", target, f"{service.url}/get/files/deep/b.bin"], check=True, timeout=30
    )
    assert target.read_bytes() == FILES["deep/b.bin"]
    address = "/get/files/%C3%85%20und%20%E6%BD%AE%20(1).txt"
    assert service.get(address).content == b"names"
    assert (
        service.get(address)
        .headers["content-disposition"]
        .endswith("filename*=UTF-8''%C3%85%20und%20%E6%BD%AE%20%281%29.txt")
    )


def test_presentation_can_be_asked_for_without_a_seal(service: Service) -> None:
    shown = service.get("/get/files/a.txt?as=inline&name=Gezeiten%20f%C3%BCr%20heute.txt&utm=x")
    assert shown.headers["content-disposition"].startswith('inline; filename="Gezeiten fur heute.txt"; filename*=')
    for query in ("as=upside-down", "name=", "name=a%0Ab", "as=inline&as=inline", "version=0"):
        assert service.get(f"/get/files/a.txt?{query}").status_code == 400
    assert service.get("/get/files/a.txt?version=1").status_code == 404


TARGETS = [
    "files/../../keys.json", "files/%2e%2e/%2e%2e/keys.json", "files/..%2f..%2fkeys.json", "files//etc/passwd",
    "files/%2fetc/passwd", "files/a.txt%00", "files/%ff", "files/%c0%ae", "files/a.txt/../../../keys.json", "../keys.json",
    "files/..\\keys.json", "files/%5c..%5ckeys.json", "files/deep", "files/", "files", "", "/", "files/" + "a/" * 2000 + "b",
    "files/a%CC%8A.txt", "files/%", "files/%zz", "files/.", "files/a.txt;x", "%66iles/../x",
]  # fmt: skip


def test_no_path_leads_outside_or_to_a_traceback(service: Service) -> None:
    for target in TARGETS:
        answer = get_raw(service.port, f"/get/{target}")
        assert answer.status in (400, 404), (target, answer.body)
        assert b"current" not in answer.body, "not the key file"
        assert str(service.folder).encode() not in answer.body
    assert "Traceback" not in service.logged()


def test_raw_bytes_that_are_no_request_do_no_harm(own: Service) -> None:
    for request in (b"GET /get/files/\xff\xfe HTTP/1.1\r\nhost: x\r\n\r\n", b"\x16\x03\x01\r\n\r\n", b"GET\r\n\r\n",
                    b"GET /get/files/a.txt HTTP/1.1\r\nhost: x\r\nrange: \xff\xfe\r\n\r\n",
                    b"GET /get/files/a.txt HTTP/1.1\r\nhost: x\r\ncookie: \xff=;;;\r\n\r\n",
                    b"GET /get/files/a.txt HTTP/1.1\r\nhost: x\r\nauthorization: Bearer \xff\r\n\r\n"):  # fmt: skip
        assert raw(own.port, request).status in (200, 400, 401)
    assert own.get("/get/files/a.txt").content == FILES["a.txt"]
    assert "Traceback" not in own.logged()


HEADER_TEXT = st.text(st.characters(min_codepoint=32, max_codepoint=126), max_size=40)
FIELDS = st.dictionaries(
    st.sampled_from(["range", "if-range", "if-match", "if-none-match", "if-modified-since", "accept", "authorization", "cookie"]),
    st.one_of(HEADER_TEXT, st.sampled_from(["bytes=0-", "bytes=5-2", "*", '"x"', "bytes=-1", "Bearer x", "text/html"])),
    max_size=4,
)  # fmt: skip


@settings(max_examples=300, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    method=st.sampled_from(["GET", "HEAD", "POST", "DELETE", "OPTIONS"]),
    target=st.one_of(st.just("files/a.txt"), HEADER_TEXT.map(lambda text: text.replace(" ", ""))),
    fields=FIELDS,
)
def test_no_request_is_answered_with_a_fault_of_the_service(
    service: Service, method: str, target: str, fields: dict[str, str]
) -> None:
    answer = get_raw(
        service.port, f"/get/{target}", *(f"{name}: {value}" for name, value in fields.items()), method=method
    )
    assert answer.status < 500
    if answer.status >= 400 and method != "HEAD" and "x-content-type-options" in answer.headers:
        assert answer.headers["content-type"] in ("application/problem+json", "text/html; charset=utf-8")


def test_requests_leak_no_descriptor(service: Service) -> None:
    service.get("/get/files/deep/b.bin")
    before = service.descriptors()
    for _ in range(30):
        service.get("/get/files/deep/b.bin", Range="bytes=5-")
        service.get("/get/files/none")
        get_raw(service.port, "/get/files/deep/b.bin", method="HEAD")
    time.sleep(0.2)
    # The database's connections are few and kept; ninety requests would show a leak.
    assert service.descriptors() <= before + 12


def test_other_methods_are_told_which_there_are(service: Service) -> None:
    answer = get_raw(service.port, "/get/files/a.txt", "content-length: 0", method="PUT")
    assert (answer.status, answer.headers["allow"]) == (405, "GET, HEAD, OPTIONS")


def test_a_table_is_made_as_it_is_sent(start: Start) -> None:
    service = start(
        settings="""
[stores.files]
kind = "tables"
[[stores.files.file]]
path = "tides.csv"
function = "invio.demo.tides:this_year"
[[stores.files.file]]
path = "broken.csv"
database = "sqlite:///nothing.sqlite"
query = "SELECT * FROM no_such_table"
"""
    )
    answer = service.get("/get/files/tides.csv", Accept_Encoding="identity")
    assert answer.headers["content-type"] == "text/csv; charset=utf-8"
    assert "content-length" not in answer.headers
    assert answer.text.count("\r\n") == 365 * 144 + 1
    again = service.get("/get/files/tides.csv", Accept_Encoding="identity")
    assert zlib.crc32(again.content) == zlib.crc32(answer.content)
    refused = service.get("/get/files/broken.csv")
    assert (refused.status_code, refused.json()["reason"]) == (503, "not-made")
    assert "no_such_table" not in refused.text, "that is for the operator"
    assert "producer.failed" in service.logged()
    assert "no_such_table" in service.logged()
    [broken, first, _] = service.transfers()
    assert broken["state"] == "broken-off"
    assert broken["reason"] == "the content could not be made (OperationalError)", "the rest is for the log"
    assert (first["state"], first["size"]) == ("complete", len(answer.content))


def test_a_file_that_is_exchanged_all_the_time_is_had_whole_or_refused(start: Callable[..., Service]) -> None:
    contents = [bytes([mark]) * 300_000 for mark in b"ab"]
    service, ends = start(files={"chart.bin": contents[0]}), threading.Event()
    path = service.folder / "files" / "chart.bin"

    def exchange() -> None:
        for number in itertools.count():
            if ends.is_set():
                return
            (path.parent / "new").write_bytes(contents[number % 2])
            (path.parent / "new").replace(path)

    exchanging = threading.Thread(target=exchange)
    exchanging.start()
    try:
        got = [service.get("/get/files/chart.bin") for _ in range(150)]
    finally:
        ends.set()
        exchanging.join()
    assert all(one.content in contents for one in got if one.status_code == 200)
    assert {one.json()["reason"] for one in got if one.status_code != 200} <= {"changed"}
    assert any(one.status_code == 200 for one in got)
