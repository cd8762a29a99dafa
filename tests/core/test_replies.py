"""Planning, with plain values: no file, no socket."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.reasons import Refusal
from invio.core.replies import Content, Reply, Representation, Slice, Streamed, plan
from invio.core.request_head import RequestHead

MODIFIED = 784111777.9


def file(size: int | None = 1000, **changes: object) -> Representation:
    given: dict[str, object] = {
        "content": Content([Slice("source", 0, size) if size is not None else Streamed("maker")]),
        "size": size,
        "tag": "abc",
        "modified": MODIFIED,
        "media_type": "text/plain",
        "name": "notice.txt",
        **changes,
    }
    return Representation(**given)  # type: ignore[arg-type]


def ask(representation: Representation, method: str = "GET", **fields: str) -> Reply:
    pairs = [(name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()]
    return plan(RequestHead(method, pairs), representation)


def headers(reply: Reply) -> dict[str, str]:
    names = [name for name, _ in reply.headers]
    assert len(names) == len(set(names)), "a header stands twice"
    return {name.decode(): value.decode() for name, value in reply.headers}


def test_a_whole_file_is_one_slice_with_its_headers() -> None:
    reply = ask(file())
    assert (reply.status, reply.parts, reply.length) == (200, [Slice("source", 0, 1000)], 1000)
    assert headers(reply) == {
        "etag": '"abc"',
        "last-modified": "Sun, 06 Nov 1994 08:49:37 GMT",
        "cache-control": "private, no-cache",
        "content-type": "text/plain; charset=utf-8",
        "x-content-type-options": "nosniff",
        "content-security-policy": "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:",
        "content-disposition": 'attachment; filename="notice.txt"',
        "accept-ranges": "bytes",
        "content-length": "1000",
    }


def test_a_range_is_a_smaller_slice() -> None:
    reply = ask(file(), range="bytes=100-199")
    assert (reply.status, reply.parts, reply.start) == (206, [Slice("source", 100, 100)], 100)
    assert headers(reply)["content-range"] == "bytes 100-199/1000"
    assert headers(reply)["content-length"] == "100"


def test_a_range_past_the_end_is_refused_with_the_size() -> None:
    with pytest.raises(Refusal) as refused:
        ask(file(), range="bytes=1000-")
    assert (refused.value.reason.status, refused.value.size) == (416, 1000)


@pytest.mark.parametrize("field", ["bytes=9-1", "lines=1-2", "bytes=0-1,5-6"])
def test_a_range_that_is_malformed_or_manifold_is_answered_with_the_whole(field: str) -> None:
    assert ask(file(), range=field).status == 200


def test_if_range_that_no_longer_fits_gets_the_whole_file() -> None:
    assert ask(file(), range="bytes=1-2", if_range='"abc"').status == 206
    assert ask(file(), range="bytes=1-2", if_range='"old"').status == 200


def test_a_file_that_is_the_same_is_not_sent_again() -> None:
    reply = ask(file(sealed=True), if_none_match='"abc"')
    assert (reply.status, reply.parts) == (304, [])
    # RFC 9110 §15.4.5: what a cache needs to go on, and nothing that describes a body
    assert set(headers(reply)) == {"etag", "last-modified", "cache-control", "referrer-policy"}


def test_head_has_the_headers_of_get_and_no_body() -> None:
    assert ask(file(), "HEAD").headers == ask(file()).headers
    assert ask(file(), "HEAD").parts == []
    # §14.2: a range is for GET alone
    assert ask(file(), "HEAD", range="bytes=0-1").status == 200


def test_another_method_is_told_which_there_are() -> None:
    with pytest.raises(Refusal) as refused:
        ask(file(), "POST")
    assert (refused.value.reason.status, refused.value.allow) == (405, "GET, HEAD")


def test_an_empty_file_is_whole_at_once() -> None:
    reply = ask(file(0))
    assert (reply.status, reply.length, headers(reply)["content-length"]) == (200, 0, "0")
    with pytest.raises(Refusal):
        ask(file(0), range="bytes=0-")


def test_a_file_made_as_it_is_sent_has_no_length_and_no_ranges() -> None:
    reply = ask(file(None, tag=None, modified=None), range="bytes=0-10")
    assert (reply.status, reply.length, reply.parts) == (200, None, [Streamed("maker")])
    assert headers(reply)["accept-ranges"] == "none"
    assert not {"content-length", "etag", "last-modified"} & set(headers(reply))


@pytest.mark.parametrize(
    ("media_type", "asked", "granted"),
    [
        ("application/pdf", "inline", "inline"),
        ("image/png", "inline", "inline"),
        ("image/png", None, "attachment"),
        ("text/html", "inline", "attachment"),
        ("image/svg+xml", "inline", "attachment"),
        ("application/xml", "inline", "attachment"),
        ("text/javascript", "inline", "attachment"),
        ("application/octet-stream", "inline", "attachment"),
    ],
)
def test_what_can_run_script_is_never_inline(media_type: str, asked: str | None, granted: str) -> None:
    shown = headers(ask(file(media_type=media_type, disposition=asked)))
    assert shown["content-disposition"].startswith(granted + ";")
    assert shown["content-security-policy"].startswith("sandbox")


def test_a_seal_does_not_travel_on_in_a_referer() -> None:
    assert headers(ask(file(sealed=True)))["referrer-policy"] == "no-referrer"
    assert "referrer-policy" not in headers(ask(file()))


PARTS = st.lists(
    st.one_of(st.binary(max_size=20), st.tuples(st.integers(0, 50), st.integers(1, 30))), min_size=1, max_size=12
)


@given(PARTS, st.data())
def test_any_cut_through_parts_holds_just_those_bytes(given_parts: list[object], data: st.DataObject) -> None:
    source = bytes(range(100))
    parts = [part if isinstance(part, bytes) else Slice("s", part[0], part[1]) for part in given_parts]  # type: ignore[index]

    def joined(pieces: list[object]) -> bytes:
        return b"".join(p if isinstance(p, bytes) else source[p.offset : p.offset + p.length] for p in pieces)  # type: ignore[attr-defined]

    whole = joined(parts)  # type: ignore[arg-type]
    start = data.draw(st.integers(0, len(whole)))
    stop = data.draw(st.integers(start, len(whole)))
    assert joined(Content(parts).cut(start, stop)) == whole[start:stop]  # type: ignore[arg-type]
