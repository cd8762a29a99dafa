"""HTTP as its rules have it, asked of the running service over raw connections, by curl, and by generated heads."""

from __future__ import annotations

import base64
import gzip
import hashlib
import os
import random
import re
import socket
import subprocess
import time
from collections.abc import Callable, Iterator
from email import message_from_bytes
from pathlib import Path

import pytest

from tests.running import RULES, Answer, Service, get_raw, raw
from tests.torture.scale import times

Start = Callable[..., Service]
BIG = random.Random(3).randbytes(300_000)
FILES = {
    "big.bin": BIG,
    "a.txt": b"tide table\n",
    "empty.dat": b"",
    "chart": b"\x89PNG\r\n\x1a\n" + bytes(50),
    "latin.txt": "Fahrrinne: Änderung".encode("latin-1"),
    "page.html": b"<script>document.title='it ran'</script>",
    "drawing.svg": b"<svg xmlns='http://www.w3.org/2000/svg'><script>1</script></svg>",
    "report.pdf": b"%PDF-1.4\n",
    "log.csv": b"station,level\r\n" * 400,
    "log.csv.gz": gzip.compress(b"station,level\r\n" * 400),
    "old.csv": b"new content\r\n",
    "old.csv.gz": gzip.compress(b"old content\r\n"),
}
SETTINGS = """
[cors]
origins = ["https://app.example.org"]

[stores.files]
kind = "directory"
root = "files"
precompressed = true

[stores.made]
kind = "tables"
[[stores.made.file]]
path = "tides.csv"
function = "invio.demo.tides:this_year"
"""
MADE = RULES.replace('"files/**"', '"files/**", "made/**"')


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """One service for all of the module, whose files nobody changes."""
    from tests.running import make_folder

    folder = tmp_path_factory.mktemp("http") / "service"
    make_folder(folder, FILES, MADE, SETTINGS)
    for path in (folder / "files").iterdir():
        os.utime(path, (1_700_000_000, 1_700_000_000.0))
    os.utime(folder / "files" / "old.csv.gz", (1_600_000_000, 1_600_000_000))
    running = Service.start(folder)
    yield running
    assert running.stop() == 0
    assert "Traceback" not in running.logged()


def ask(service: Service, name: str, method: str = "GET", **fields: str) -> Answer:
    lines = [f"{field.replace('_', '-')}: {value}" for field, value in fields.items()]
    return get_raw(service.port, f"/get/{name}", *lines, method=method)


DATE = "Tue, 14 Nov 2023 22:13:20 GMT"
LATER, EARLIER = "Tue, 14 Nov 2023 22:13:21 GMT", "Tue, 14 Nov 2023 22:13:19 GMT"
SAME_DATE = [DATE, "Tuesday, 14-Nov-23 22:13:20 GMT", "Tue Nov 14 22:13:20 2023"]


# Preconditions


def test_if_none_match_compares_weakly_and_wins_over_the_date(service: Service) -> None:
    tag = ask(service, "files/big.bin").headers["etag"]
    for field in (tag, f"W/{tag}", f'"x", {tag}', f'"x",,W/{tag} ,"y"', "*"):
        assert ask(service, "files/big.bin", if_none_match=field).status == 304, field
    assert ask(service, "files/big.bin", if_none_match='"x"', if_modified_since=LATER).status == 200
    assert ask(service, "files/big.bin", method="HEAD", if_none_match=tag).status == 304


def test_if_match_compares_strongly_and_comes_first(service: Service) -> None:
    tag = ask(service, "files/big.bin").headers["etag"]
    assert ask(service, "files/big.bin", if_match=f'"x", {tag}').status == 200
    assert ask(service, "files/big.bin", if_match="*").status == 200
    for field in (f"W/{tag}", '"x"'):
        refused = ask(service, "files/big.bin", if_match=field, if_none_match=tag)
        assert (refused.status, refused.headers["content-type"]) == (412, "application/problem+json")
    assert ask(service, "files/big.bin", if_match=tag, if_unmodified_since=EARLIER).status == 200


def test_dates_are_read_in_all_three_formats(service: Service) -> None:
    for date in SAME_DATE:
        assert ask(service, "files/big.bin", if_modified_since=date).status == 304, date
        assert ask(service, "files/big.bin", if_unmodified_since=date).status == 200, date
        assert ask(service, "files/big.bin", range="bytes=0-0", if_range=date).status == 206, date
    assert ask(service, "files/big.bin", if_modified_since=EARLIER).status == 200
    assert ask(service, "files/big.bin", if_unmodified_since=EARLIER).status == 412
    assert ask(service, "files/big.bin", if_modified_since="yesterday").status == 200
    assert ask(service, "files/big.bin").headers["last-modified"] == DATE


def test_a_304_carries_what_a_cache_needs_and_no_body(service: Service) -> None:
    whole = ask(service, "files/log.csv")
    same = ask(service, "files/log.csv", if_none_match=whole.headers["etag"], origin="https://app.example.org")
    assert same.status == 304
    for name in ("etag", "cache-control", "vary", "date"):
        assert name in same.headers, name
    assert not {"content-length", "content-type", "transfer-encoding"} & set(same.headers)
    assert same.headers["access-control-allow-origin"] == "https://app.example.org"


# Ranges


def test_open_closed_and_suffix_ranges(service: Service) -> None:
    for field, expected in (
        ("0-0", BIG[:1]),
        ("299999-", BIG[-1:]),
        ("-5", BIG[-5:]),
        ("10-400000", BIG[10:]),
        ("-400000", BIG),
    ):
        part = ask(service, "files/big.bin", range=f"bytes={field}")
        assert (part.status, part.body) == (206, expected), field
        start = len(BIG) - len(expected) if not field.startswith("0") else 0
        start = 10 if field.startswith("10") else start
        assert part.headers["content-range"] == f"bytes {start}-{start + len(expected) - 1}/{len(BIG)}"


def parts(answer: Answer) -> list[tuple[str, bytes]]:
    head = b"Content-Type: " + answer.headers["content-type"].encode() + b"\r\n\r\n"
    message = message_from_bytes(head + answer.body)
    assert message.is_multipart()
    assert not message.defects
    return [(part["content-range"], part.get_payload(decode=True)) for part in message.get_payload()]  # type: ignore[index,misc,union-attr]


def test_several_ranges_come_as_parts_with_their_exact_length(service: Service) -> None:
    answer = ask(service, "files/big.bin", range="bytes=250000-299998,0-9,-1")
    assert answer.status == 206
    assert "content-range" not in answer.headers
    assert len(answer.body) == int(answer.headers["content-length"])
    assert parts(answer) == [
        (f"bytes 250000-299999/{len(BIG)}", BIG[250_000:]),
        (f"bytes 0-9/{len(BIG)}", BIG[:10]),
    ]


def test_the_parts_count_as_what_has_arrived(start: Start) -> None:
    service = start(files=FILES)
    assert ask(service, "files/big.bin", range="bytes=0-99999,200000-299999").status == 206
    [first] = service.transfers()
    assert (first["state"], first["bytes"]) == ("partial", 200_000)
    assert ask(service, "files/big.bin", range="bytes=100000-149999,150001-199999").status == 206
    assert ask(service, "files/big.bin", range="bytes=150000-150000").status == 206
    [whole] = service.transfers()
    assert (whole["state"], whole["bytes"], whole["requests"]) == ("complete", 300_000, 3)


def test_ranges_are_merged_and_too_many_are_answered_whole(service: Service) -> None:
    merged = ask(service, "files/big.bin", range="bytes=5-9,0-4,3-20")
    assert (merged.status, merged.body, merged.headers["content-range"]) == (206, BIG[:21], f"bytes 0-20/{len(BIG)}")
    tiny = ",".join(f"{20 * n}-{20 * n}" for n in range(65))
    assert ask(service, "files/big.bin", range=f"bytes={tiny}").status == 200
    assert ask(service, "files/big.bin", range="bytes=" + tiny.rpartition(",")[0]).status == 206


def test_unknown_units_and_malformed_sets_are_ignored(service: Service) -> None:
    for field in ("lines=1-2", "bytes=5-1", "bytes=a-b", "bytes", "bytes=", "bytes=1-2;3-4", "bytes=--1"):
        assert ask(service, "files/big.bin", range=field).status == 200, field


def test_a_range_beyond_the_end_is_416_with_the_size(service: Service) -> None:
    for name, size in (("big.bin", len(BIG)), ("empty.dat", 0)):
        refused = ask(service, f"files/{name}", range=f"bytes={size}-")
        assert (refused.status, refused.headers["content-range"]) == (416, f"bytes */{size}")
    assert ask(service, "files/empty.dat", range="bytes=-5").status == 200
    assert ask(service, "files/big.bin", range="bytes=0-4,400000-").status == 206


def test_if_range_goes_by_tag_and_by_date(service: Service) -> None:
    tag = ask(service, "files/big.bin").headers["etag"]
    for field, status in (
        (tag, 206),
        (f"W/{tag}", 200),
        ('"x"', 200),
        (DATE, 206),
        (EARLIER, 200),
        (LATER, 200),
        ("?", 200),
    ):
        assert ask(service, "files/big.bin", range="bytes=5-9", if_range=field).status == status, field


def test_head_equals_get_in_every_header(service: Service) -> None:
    unlike = {"date", "transfer-encoding"}
    for name in ("files/big.bin", "files/empty.dat", "files/log.csv", "files/none", "made/tides.csv"):
        for fields in ({}, {"accept_encoding": "gzip"}, {"if_none_match": "*"}, {"accept": "text/html"}):
            for _ in range(5):  # what was made is let go after a moment, which may lie between the two
                get, head = ask(service, name, **fields), ask(service, name, method="HEAD", **fields)
                both = [{k: v for k, v in one.headers.items() if k not in unlike} for one in (get, head)]
                if both[0] == both[1]:
                    break
            assert get.status == head.status
            assert both[0] == both[1]
            assert head.body == b""
    assert ask(service, "files/big.bin", method="HEAD", range="bytes=0-1").status == 200


def test_curl_gets_several_ranges_resumes_and_decompresses(service: Service, tmp_path: Path) -> None:
    def curl(*arguments: str) -> bytes:
        return subprocess.run(["curl", "-sS", *arguments], check=True, timeout=30, capture_output=True).stdout

    several = curl("-r", "0-9,100-109", f"{service.url}/get/files/big.bin")
    assert several.count(b"Content-Range: bytes") == 2
    assert curl("--compressed", f"{service.url}/get/files/log.csv") == FILES["log.csv"]
    target = tmp_path / "part"
    target.write_bytes(BIG[:1234])
    curl("-C", "-", "-o", str(target), f"{service.url}/get/files/big.bin")
    assert target.read_bytes() == BIG


# Validators and integrity


def sha256(content: bytes) -> str:
    return "sha-256=:" + base64.b64encode(hashlib.sha256(content).digest()).decode() + ":"


def test_digests_are_told_to_those_who_want_them(service: Service) -> None:
    plain = ask(service, "files/a.txt")
    assert not {"repr-digest", "content-digest"} & set(plain.headers)
    whole = ask(service, "files/a.txt", want_repr_digest="sha-256=5", want_content_digest="sha-256=1")
    assert whole.headers["repr-digest"] == whole.headers["content-digest"] == sha256(FILES["a.txt"])
    part = ask(service, "files/a.txt", range="bytes=5-", want_repr_digest="sha-256=5", want_content_digest="sha-256=1")
    assert part.headers["repr-digest"] == sha256(FILES["a.txt"])
    assert part.headers["content-digest"] == sha256(part.body) == sha256(b"table\n")
    assert "repr-digest" not in ask(service, "files/a.txt", want_repr_digest="sha-512=5, sha-256=0").headers


def test_a_tag_by_content_and_the_tag_before_it_are_one_file(start: Start) -> None:
    service = start(files=FILES)
    before = ask(service, "files/big.bin").headers["etag"]
    ask(service, "files/big.bin", want_repr_digest="sha-256=1")
    after = ask(service, "files/big.bin").headers["etag"]
    assert after != before
    assert hashlib.sha256(BIG).hexdigest().startswith(after.strip('"'))
    for tag in (before, after):
        part = ask(service, "files/big.bin", range="bytes=0-9", if_range=tag)
        assert (part.status, part.headers["etag"]) == (206, tag)
        assert ask(service, "files/big.bin", if_none_match=tag).status == 304
    # A further request goes on with the transfer that was begun under the other tag.
    assert ask(service, "files/big.bin", range="bytes=10-", if_range=after).status == 206
    assert {shown["state"] for shown in service.transfers()} == {"complete"}
    # The content's tag outlives a touch and a restart; another content has another one.
    os.utime(service.folder / "files" / "big.bin")
    ask(service, "files/big.bin", want_repr_digest="sha-256=1")
    assert ask(service, "files/big.bin", if_none_match=after).status == 304
    service.stop()
    again = start(service.folder)
    assert ask(again, "files/big.bin").headers["etag"] == after
    (service.folder / "files" / "big.bin").write_bytes(BIG[::-1])
    assert ask(again, "files/big.bin", if_none_match=after).status == 200


def test_the_digest_of_a_large_file_is_computed_beside_and_kept(start: Start) -> None:
    service = start(files={"large.bin": BIG * 20})
    assert "repr-digest" not in ask(service, "files/large.bin", method="HEAD", want_repr_digest="sha-256=1").headers
    for _ in range(100):
        told = ask(service, "files/large.bin", method="HEAD", want_repr_digest="sha-256=1").headers.get("repr-digest")
        if told:
            break
        time.sleep(0.05)
    assert told == sha256(BIG * 20)
    assert service.get("/api/files/files/large.bin").json()["sha256"] == hashlib.sha256(BIG * 20).hexdigest()


# Names and types


def test_types_are_told_by_name_and_else_by_content(service: Service) -> None:
    for name, media_type in (("a.txt", "text/plain; charset=utf-8"), ("chart", "image/png"), ("latin.txt", "text/plain"),
                             ("big.bin", "application/octet-stream"), ("empty.dat", "application/octet-stream")):  # fmt: skip
        answer = ask(service, f"files/{name}")
        assert answer.headers["content-type"] == media_type
        assert answer.headers["x-content-type-options"] == "nosniff"
    assert service.get("/api/files/files/chart").json()["media_type"] == "image/png"


def test_what_can_run_script_is_shown_only_in_a_sandbox(service: Service) -> None:
    for name in ("page.html", "drawing.svg", "report.pdf"):
        shown = ask(service, f"files/{name}?as=inline").headers
        assert shown["content-disposition"].startswith("inline")
        assert shown["content-security-policy"].startswith("sandbox;")
        assert "allow" not in shown["content-security-policy"]
    assert ask(service, "files/page.html").headers["content-disposition"].startswith("attachment")
    assert ask(service, "files/big.bin?as=inline").headers["content-disposition"].startswith("attachment")


@pytest.mark.parametrize(
    ("asked", "offered"),
    [
        ("chart.pdf", 'filename="chart.pdf"'),
        ("../../etc/passwd", 'filename="_.._etc_passwd"'),
        ("C:\\temp\\x.exe", 'filename="C__temp_x.exe"'),
        ("CON.txt", 'filename="_CON.txt"'),
        ("invoice‮fdp.exe", 'filename="invoicefdp.exe"'),
        ("trailing. . ", 'filename="trailing"'),
        ('a"b;c.txt', 'filename="a_b;c.txt"'),
        ("Übersicht €.pdf", "filename=\"Ubersicht _.pdf\"; filename*=UTF-8''%C3%9Cbersicht%20%E2%82%AC.pdf"),
        ("50%41.txt", "filename=\"50_41.txt\"; filename*=UTF-8''50%2541.txt"),
    ],
)
def test_names_are_made_safe_and_told_twice_where_ascii_does_not_do(service: Service, asked: str, offered: str) -> None:
    from urllib.parse import quote

    answer = ask(service, f"files/a.txt?name={quote(asked, safe='')}")
    assert answer.headers["content-disposition"] == f"attachment; {offered}"


# For browsers' code


def test_methods_are_told_by_options_and_405(service: Service) -> None:
    options = ask(service, "files/a.txt", method="OPTIONS")
    assert (options.status, options.headers["allow"]) == (204, "GET, HEAD, OPTIONS")
    for method in ("POST", "PUT", "DELETE", "PATCH"):
        refused = ask(service, "files/a.txt", method=method, content_length="0")
        assert (refused.status, refused.headers["allow"]) == (405, "GET, HEAD, OPTIONS")
        assert refused.headers["content-type"] == "application/problem+json"


def test_other_origins_may_read_as_the_settings_say(service: Service) -> None:
    asked = {"access_control_request_method": "GET", "access_control_request_headers": "range"}
    preflight = ask(service, "files/a.txt", method="OPTIONS", origin="https://app.example.org", **asked)
    assert (preflight.status, preflight.headers["access-control-allow-origin"]) == (204, "https://app.example.org")
    assert "Range" in preflight.headers["access-control-allow-headers"]
    for target in ("/get/files/a.txt", "/get/files/none", "/api/files"):
        read = get_raw(service.port, target, "origin: https://app.example.org")
        assert read.headers["access-control-allow-origin"] == "https://app.example.org", target
        assert "Content-Range" in read.headers["access-control-expose-headers"]
        other = get_raw(service.port, target, "origin: https://evil.test")
        assert "access-control-allow-origin" not in other.headers
        assert "origin" in other.headers["vary"]
    api = get_raw(
        service.port,
        "/api/bundles",
        "origin: https://app.example.org",
        "access-control-request-method: POST",
        method="OPTIONS",
    )
    assert (api.status, api.headers["access-control-allow-methods"]) == (204, "GET, HEAD, POST, PUT, DELETE")


def test_who_may_embed_and_where_a_seal_goes(service: Service) -> None:
    assert ask(service, "files/chart").headers["cross-origin-resource-policy"] == "same-origin"
    assert "referrer-policy" not in ask(service, "files/chart").headers
    link = service.link("files/chart", until=1)
    for target in (service.link("files/chart"), link):
        answer = get_raw(service.port, target)
        assert answer.headers["referrer-policy"] == "no-referrer"
        assert answer.status in (200, 410)


def test_caching_is_private_unless_a_rule_says_more(start: Start) -> None:
    rules = RULES.replace(
        'actions = ["list", "read", "bundle"]',
        'actions = ["list", "read", "bundle"]\ncache = "public, max-age=300"\ndisposition = "inline"',
    )
    service = start(files=FILES, rules=rules)
    told = ask(service, "files/a.txt").headers
    assert (told["cache-control"], told["content-disposition"]) == ("public, max-age=300", 'inline; filename="a.txt"')
    assert ask(service, "files/a.txt?as=attachment").headers["content-disposition"].startswith("attachment")
    assert get_raw(service.port, service.link("files/a.txt")).headers["cache-control"] == "private, no-cache"
    assert ask(service, "files/none").headers["cache-control"] == "no-store"


# Codings


def test_a_compressed_neighbour_is_sent_to_those_who_take_it(service: Service) -> None:
    plain, coded = ask(service, "files/log.csv"), ask(service, "files/log.csv", accept_encoding="gzip, br")
    assert gzip.decompress(coded.body) == plain.body == FILES["log.csv"]
    assert coded.headers["content-encoding"] == "gzip"
    assert coded.headers["content-type"] == plain.headers["content-type"] == "text/csv; charset=utf-8"
    assert coded.headers["etag"] != plain.headers["etag"]
    for answer in (plain, coded):
        assert "accept-encoding" in answer.headers["vary"]
    # A range is one of what is sent; a tag of the other coding does not fit.
    tag = coded.headers["etag"]
    rest = ask(service, "files/log.csv", accept_encoding="gzip", range="bytes=10-", if_range=tag)
    assert (rest.status, rest.body) == (206, coded.body[10:])
    assert ask(service, "files/log.csv", range="bytes=10-", if_range=tag).status == 200
    assert ask(service, "files/log.csv", accept_encoding="gzip", if_none_match=plain.headers["etag"]).status == 200
    assert ask(service, "files/old.csv", accept_encoding="gzip").body == b"new content\r\n", (
        "the neighbour is out of date"
    )


def test_what_is_made_is_compressed_on_its_way(service: Service) -> None:
    plain = service.get("/get/made/tides.csv", Accept_Encoding="identity")
    for coding in ("gzip", "zstd"):
        coded = service.get("/get/made/tides.csv", Accept_Encoding=coding)
        assert coded.headers["content-encoding"] == coding
        assert coded.content == plain.content  # decoded by the client's own library
        assert int(coded.num_bytes_downloaded) < 0.4 * len(plain.content)
    assert service.get("/get/made/tides.csv", Accept_Encoding="gzip;q=0").content == plain.content


# Limits


def test_a_recipients_connections_share_one_speed(start: Start) -> None:
    rules = RULES.replace(
        'actions = ["list", "read", "bundle"]', 'actions = ["list", "read", "bundle"]\nspeed = 600000'
    )
    service = start(files=FILES, rules=rules)
    began = time.monotonic()
    gets = [subprocess.Popen(["curl", "-sS", "-o", "/dev/null", f"{service.url}/get/files/big.bin"]) for _ in range(4)]
    assert [get.wait(30) for get in gets] == [0] * 4
    assert 1.8 < time.monotonic() - began < 15, "1.2 MB at 600 kB a second"


def test_a_links_speed_is_not_multiplied_by_narrowing_it(start: Start) -> None:
    from invio.core.links.seals import link_target, narrow_link, parse_link

    service = start(files=FILES)
    link = service.link("files/big.bin", {"to": "bob"}, rate=400_000)
    path, _, query = link.removeprefix("/get/").partition("?")
    narrowed = [link_target(narrow_link(parse_link(f"{path}?{query}"), [("via", f"copy {n}")])) for n in range(3)]
    began = time.monotonic()
    gets = [subprocess.Popen(["curl", "-sS", "-o", "/dev/null", service.url + target]) for target in narrowed]
    assert [get.wait(30) for get in gets] == [0] * 3
    assert 2.0 < time.monotonic() - began < 15, "0.9 MB at 400 kB a second"


def slow(service: Service, name: str, *fields: str) -> socket.socket:
    """A request for a file at 100 kB a second, under way."""
    connection = socket.create_connection(("127.0.0.1", service.port), timeout=10)
    lines = [f"GET {service.link(f'files/{name}', rate=100_000)} HTTP/1.1", "host: x", *fields, "", ""]
    connection.sendall("\r\n".join(lines).encode())
    assert connection.recv(100).startswith(b"HTTP/1.1 200")
    return connection


def test_a_recipient_obtains_only_so_many_files_at_once(start: Start) -> None:
    limits = "[limits]\nrecipient_transfers = 2\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    service = start(files={**FILES, "b.bin": BIG, "c.bin": BIG}, settings=limits)
    busy = [slow(service, "big.bin"), slow(service, "b.bin")]
    refused = ask(service, "files/c.bin")
    assert (refused.status, refused.headers["retry-after"]) == (429, "5")
    assert b"too-many" in refused.body
    assert service.get("/get/files/c.bin", "bob").status_code == 200, "another one may"
    assert ask(service, "files/c.bin", method="HEAD").status == 200, "a head is no transfer"
    busy[0].close()
    time.sleep(0.5)
    assert ask(service, "files/c.bin").status == 200
    busy[1].close()


def test_a_service_at_its_limit_says_when_to_come_back(start: Start) -> None:
    limits = "[limits]\nrequests = 1\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    service = start(files=FILES, settings=limits)
    with slow(service, "big.bin"):
        refused = service.get("/get/files/a.txt", "bob", Accept="text/html")
        assert (refused.status_code, refused.headers["retry-after"]) == (503, "5")
        assert "The service is busy" in refused.text
        assert service.get("/healthz").status_code == 200
    time.sleep(0.5)
    assert service.get("/get/files/a.txt").status_code == 200


def test_a_reader_that_takes_nothing_is_cut_off_and_recorded(start: Start) -> None:
    limits = "[limits]\nidle = 1.0\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    service = start(files={"huge.bin": BIG * 100}, settings=limits)
    with socket.socket() as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 16_384)
        connection.connect(("127.0.0.1", service.port))
        connection.sendall(b"GET /get/files/huge.bin HTTP/1.1\r\nhost: x\r\n\r\n")
        for _ in range(100):
            [shown] = service.transfers() or [{"state": "running"}]
            if shown["state"] != "running":
                break
            time.sleep(0.05)
    assert (shown["state"], shown["reason"]) == ("broken-off", "the client took nothing for 1 seconds")
    assert 0 < shown["bytes"] < 30_000_000


# What is no request


def test_what_is_no_request_gets_a_problem_document_and_a_closed_connection(service: Service) -> None:
    for request, status, word in (
        (b"\x16\x03\x01\x02\x00\x01\x00\r\n\r\n", 400, b"bad-request"),
        (b"GET /get/files/a.txt\r\n\r\n", 400, b"bad-request"),
        (b"FETCH /get/files/a.txt HTTP/1.1\r\nhost: x\r\n\r\n", 400, b"bad-request"),
        (b"GET /get/files/a.txt HTTP/1.1\r\n\r\n", 400, b"bad-request"),  # no Host
        (b"GET /get/files/a.txt HTTP/1.1\r\nhost: a\r\nhost: b\r\n\r\n", 400, b"bad-request"),
        (b"GET /get/files/a.txt HTTP/1.1\r\nhost: x\r\na: " + b"x" * 70_000 + b"\r\n\r\n", 431, b"long-head"),
        (b"GET /get/" + b"x" * 70_000 + b" HTTP/1.1\r\nhost: x\r\n\r\n", 431, b"long-head"),
    ):
        answer = raw(service.port, request)
        assert (answer.status, answer.headers["content-type"]) == (status, "application/problem+json"), request[:60]
        assert word in answer.body


def test_what_follows_good_requests_and_is_none_spoils_no_answer(service: Service) -> None:
    good = b"GET /get/files/big.bin HTTP/1.1\r\nhost: x\r\n\r\n"
    with socket.create_connection(("127.0.0.1", service.port), timeout=10) as connection:
        connection.sendall(good + good + b"\x00\x01 nonsense\r\n\r\n")
        data = b""
        while piece := connection.recv(1 << 20):
            data += piece
    assert data.count(BIG) == 2
    assert data.endswith(BIG)


HEADS = times(4_000, 16_000)


def heads(seed: int) -> Iterator[bytes]:
    """Heads that begin well and go astray: of fields, targets, lines and bytes."""
    chance = random.Random(seed)
    names = ["range", "if-range", "if-match", "if-none-match", "if-modified-since", "if-unmodified-since", "accept",
             "accept-encoding", "want-repr-digest", "want-content-digest", "authorization", "cookie", "origin",
             "connection", "x-forwarded-for", "expect", "te", "user-agent", "access-control-request-method"]  # fmt: skip
    values = ["bytes=0-4,6-8", "bytes=-1", "bytes=5-", "bytes=9-1", "*", '"x"', 'W/"x"', DATE, "gzip;q=0.5, *", "text/html",
              "Bearer x", "sha-256=1", "https://app.example.org", "close", "keep-alive, upgrade", "100-continue", "", ","]  # fmt: skip
    targets = ["/get/files/a.txt", "/get/files/chart", "/get/files/log.csv", "/get/files/%zz",
               "/get/bundles/x/y.zip", "/get/files/a.txt?key=a&seal=b", "/get/files/../x", "/api/files", "/api/files/files/a.txt",
               "/readyz", "/console/", "http://x/get/files/a.txt", "*", "/get/files/a.txt?name=" + "%F0%9F" * 9, "//", "/get/"]  # fmt: skip

    def text(length: int) -> str:
        return "".join(
            chr(chance.choice([chance.randrange(32, 127), chance.randrange(128, 256)])) for _ in range(length)
        )

    while True:
        method = chance.choice(["GET"] * 6 + ["HEAD", "HEAD", "OPTIONS", "POST", "PUT", "DELETE", "PATCH", "TRACE"])
        target = (
            chance.choice(targets) if chance.random() < 0.9 else "/get/" + text(chance.randrange(30)).replace(" ", "")
        )
        fields = ["host: 127.0.0.1"] if chance.random() < 0.97 else []
        for _ in range(chance.randrange(6)):
            value = chance.choice(values) if chance.random() < 0.7 else text(chance.randrange(60))
            fields.append(f"{chance.choice(names)}: {value}")
        head = "\r\n".join([f"{method} {target} HTTP/1.1", *fields, "connection: close", "", ""]).encode("latin-1")
        if chance.random() < 0.15:  # and bytes that are simply wrong
            spoiled = bytearray(head)
            for _ in range(chance.randrange(1, 4)):
                spoiled[chance.randrange(len(spoiled))] = chance.randrange(256)
            head = bytes(spoiled) + b"\r\n\r\n"
        yield head


def _announced(data: bytes) -> int:
    """How long an answer is that has a length; the spoiled head may have been one that keeps the connection."""
    front, end, _ = data.partition(b"\r\n\r\n")
    found = re.search(rb"\r\ncontent-length: (\d+)", front.lower())
    length = int(found[1]) if found else 0 if front[9:12] in (b"204", b"304") else 1 << 40
    return len(front) + 4 + length if end else 1 << 40


def test_no_head_of_many_thousands_is_answered_with_a_fault_or_leaks_a_descriptor(service: Service) -> None:
    before = service.descriptors()
    counted: dict[int, int] = {}
    generated = heads(2026)
    for _ in range(HEADS // 16):
        batch = []
        for _ in range(16):
            connection = socket.create_connection(("127.0.0.1", service.port), timeout=10)
            head = next(generated)
            connection.sendall(head)
            connection.settimeout(1)
            batch.append((connection, head))
        for connection, head in batch:
            data = b""
            try:
                while piece := connection.recv(1 << 20):
                    data += piece
                    if len(data) >= _announced(data):
                        break
            except (ConnectionResetError, TimeoutError):
                pass  # what followed a refused head was not read, or the spoiled one has no end
            connection.close()
            found = re.match(rb"HTTP/1\.1 (\d{3}) ", data)
            status = int(found[1]) if found else 0
            counted[status] = counted.get(status, 0) + 1
            assert status < 500, head
            assert status or not data
            if status >= 400 and not head.startswith(b"HEAD") and b"\r\n\r\n" in data:
                front = data.partition(b"\r\n\r\n")[0].lower()
                assert b"application/problem+json" in front or b"text/html" in front, (head, front)
    assert counted.get(0, 0) < 0.01 * HEADS, counted
    assert {200, 206, 304, 400, 404} <= set(counted), counted
    time.sleep(0.5)
    assert service.descriptors() <= before + 12
    assert ask(service, "files/a.txt").body == FILES["a.txt"]
