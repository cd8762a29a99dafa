"""Planning, with plain values: no file, no socket."""

from __future__ import annotations

import base64
import random
from email import message_from_bytes

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from invio.core.http.multipart import multipart
from invio.core.http.replies import Content, Reply, Representation, Slice, Streamed, part_length, plan
from invio.core.http.request_head import RequestHead
from invio.core.readable import HeldInMemory
from invio.core.reasons import Refusal

MODIFIED = 784111777.9
SANDBOX = "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:; form-action 'none'"


class Source(HeldInMemory):
    """What the slices of these tests are of; nothing is read from it."""

    size = 1000


SOURCE = Source()


def file(size: int | None = 1000, **changes: object) -> Representation:
    given: dict[str, object] = {
        "content": Content([Slice(SOURCE, 0, size) if size is not None else Streamed("maker")]),
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
    assert (reply.status, reply.parts, reply.length) == (200, [Slice(SOURCE, 0, 1000)], 1000)
    assert headers(reply) == {
        "etag": '"abc"',
        "last-modified": "Sun, 06 Nov 1994 08:49:37 GMT",
        "cache-control": "private, no-cache",
        "content-type": "text/plain; charset=utf-8",
        "x-content-type-options": "nosniff",
        "content-security-policy": SANDBOX,
        "cross-origin-resource-policy": "same-origin",
        "content-disposition": 'attachment; filename="notice.txt"',
        "accept-ranges": "bytes",
        "content-length": "1000",
    }


def test_a_range_is_a_smaller_slice() -> None:
    reply = ask(file(), range="bytes=100-199")
    assert (reply.status, reply.parts, reply.length) == (206, [Slice(SOURCE, 100, 100)], 100)
    assert reply.spans == ((0, 100, 100),)
    assert headers(reply)["content-range"] == "bytes 100-199/1000"
    assert headers(reply)["content-length"] == "100"


def test_a_range_past_the_end_is_refused_with_the_size() -> None:
    with pytest.raises(Refusal) as refused:
        ask(file(), range="bytes=1000-")
    assert (refused.value.reason.status, refused.value.size) == (416, 1000)


@pytest.mark.parametrize("field", ["bytes=9-1", "lines=1-2", "bytes=0-1,x", ",".join(["bytes=0-1"] + ["5-6"] * 64)])
def test_a_range_that_is_malformed_or_too_manifold_is_answered_with_the_whole(field: str) -> None:
    assert ask(file(), range=field).status == 200


def test_if_range_that_no_longer_fits_gets_the_whole_file() -> None:
    assert ask(file(), range="bytes=1-2", if_range='"abc"').status == 206
    assert ask(file(), range="bytes=1-2", if_range='"old"').status == 200


def test_what_only_its_tag_tells_apart_is_resumed_by_its_tag_alone() -> None:
    made_anew = file(by_tag_alone=True)
    assert ask(made_anew, range="bytes=1-2").status == 200
    assert ask(made_anew, range="bytes=1-2", if_range='"abc"').status == 206


def test_a_file_that_is_the_same_is_not_sent_again() -> None:
    reply = ask(file(sealed=True), if_none_match='"abc"')
    assert (reply.status, reply.parts, reply.length, reply.may_block) == (304, [], 0, False)
    # RFC 9110 §15.4.5: what a cache needs to go on, and nothing that describes a body
    assert set(headers(reply)) == {"etag", "last-modified", "cache-control", "referrer-policy"}


def test_head_has_the_headers_of_get_and_no_body() -> None:
    assert ask(file(), "HEAD").headers == ask(file()).headers
    assert ask(file(), "HEAD").parts == []
    # §14.2: a range is for GET alone
    assert ask(file(), "HEAD", range="bytes=0-1").status == 200
    for method, length in (("HEAD", 0), ("GET", 1000)):
        head = RequestHead(method, [(b"want-repr-digest", b"sha-256=1")])
        assert plan(head, file(1000)).length == length


def test_another_method_is_told_which_there_are() -> None:
    with pytest.raises(Refusal) as refused:
        ask(file(), "POST")
    assert (refused.value.reason.status, refused.value.allow) == (405, "GET, HEAD, OPTIONS")


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
    ("media_type", "asked", "granted", "sandboxed"),
    [
        ("application/pdf", "inline", "inline", True),
        ("audio/wav", "inline", "inline", False),  # a player asks for it again, and runs nothing
        ("image/png", "inline", "inline", True),
        ("image/png", None, "attachment", True),
        ("text/html", "inline", "inline", True),
        ("image/svg+xml", "inline", "inline", True),
        ("application/xml", "inline", "inline", True),
        ("application/xhtml+xml", "inline", "inline", True),
        ("text/javascript", "inline", "attachment", True),
        ("application/octet-stream", "inline", "attachment", True),
        ("application/x-unheard-of", "inline", "attachment", True),
    ],
)
def test_what_can_run_script_is_inline_only_in_a_sandbox(
    media_type: str, asked: str | None, granted: str, sandboxed: bool
) -> None:
    shown = headers(ask(file(media_type=media_type, disposition=asked)))
    assert shown["content-disposition"].startswith(granted + ";")
    assert (shown["content-security-policy"] == SANDBOX) is sandboxed
    assert "default-src 'none'" in shown["content-security-policy"]


def multiparts(reply: Reply, content: bytes) -> list[tuple[str, bytes]]:
    """The (Content-Range, bytes) of an answer's parts, read as a client would: by the standard library's parser."""
    body = b"".join(p if isinstance(p, bytes) else content[p.offset : p.offset + p.length] for p in reply.parts)  # type: ignore[union-attr]
    assert len(body) == reply.length == int(headers(reply)["content-length"])
    for at, start, length in reply.spans:
        assert body[at : at + length] == content[start : start + length]
    message = message_from_bytes(b"Content-Type: " + headers(reply)["content-type"].encode() + b"\r\n\r\n" + body)
    assert not message.defects
    return [(part["content-range"], part.get_payload(decode=True)) for part in message.get_payload()]  # type: ignore[index,misc,union-attr]


CONTENT = bytes(random.Random(1).choices(range(32, 127), k=4000))


def test_several_ranges_are_parts_between_boundaries_in_the_order_asked_for() -> None:
    reply = ask(file(4000), range="bytes=3000-3009, 10-19,, -5")
    assert reply.status == 206
    assert "content-range" not in headers(reply)
    assert multiparts(reply, CONTENT) == [
        ("bytes 3000-3009/4000", CONTENT[3000:3010]),
        ("bytes 10-19/4000", CONTENT[10:20]),
        ("bytes 3995-3999/4000", CONTENT[-5:]),
    ]
    assert ask(file(4000), range="bytes=3000-3009,10-19,-5").headers == reply.headers


def test_ranges_that_overlap_or_touch_become_one_and_need_no_parts() -> None:
    reply = ask(file(4000), range="bytes=10-19,15-30,31-40")
    assert (reply.status, reply.parts) == (206, [Slice(SOURCE, 10, 31)])
    assert headers(reply)["content-range"] == "bytes 10-40/4000"


def test_ranges_that_would_be_longer_than_the_file_get_the_file() -> None:
    reply = ask(file(300), range="bytes=0-99,110-199,210-299")
    assert (reply.status, reply.length) == (200, 300)


def test_several_ranges_are_sent_as_parts_only_where_that_is_shorter_than_the_file() -> None:
    seen = set()
    for size in range(200, 420):
        reply = ask(file(size), range="bytes=0-9,100-109")
        parts = multipart([(0, 10), (100, 110)], size, "text/plain; charset=utf-8", "abc").length
        assert reply.status == (206 if parts < size else 200), size
        seen.add((parts < size, parts == size))
    assert seen == {(True, False), (False, False), (False, True)}


@given(st.lists(st.tuples(st.integers(0, 4100), st.integers(0, 500)), min_size=1, max_size=20))
def test_any_set_of_ranges_brings_just_those_bytes_once(asked: list[tuple[int, int]]) -> None:
    field = "bytes=" + ",".join(f"{first}-{first + more}" for first, more in asked)
    wanted = {place for first, more in asked for place in range(first, min(4000, first + more + 1))}
    try:
        reply = ask(file(4000), range=field)
    except Refusal as refused:
        assert (refused.reason.status, wanted) == (416, set())
        return
    if reply.status == 200:
        return
    brought = [place for _, start, length in reply.spans for place in range(start, start + length)]
    assert sorted(brought) == sorted(wanted)
    if len(reply.spans) > 1:
        multiparts(reply, CONTENT)


def test_a_client_that_knows_an_earlier_tag_of_the_same_content_is_answered_in_its_words() -> None:
    known = file(tag="new", earlier_tag="old")
    assert headers(ask(known))["etag"] == '"new"'
    for tag in ("new", "old"):
        assert headers(ask(known, if_none_match=f'"{tag}"'))["etag"] == f'"{tag}"'
        assert ask(known, if_none_match=f'"{tag}"').status == 304
        part = ask(known, range="bytes=1-2", if_range=f'"{tag}"')
        assert (part.status, headers(part)["etag"]) == (206, f'"{tag}"')
        assert ask(known, if_match=f'"{tag}"').status == 200
    with pytest.raises(Refusal):
        ask(known, if_match='"other"')


DIGEST = "sha-256=:" + base64.b64encode(bytes(32)).decode() + ":"


def test_a_digest_is_told_when_it_is_wanted_and_known() -> None:
    known = file(sha256=bytes(32))
    assert not {"repr-digest", "content-digest"} & set(headers(ask(known)))
    whole = ask(known, want_repr_digest="sha-256=3, sha-512=9", want_content_digest="sha-256=1")
    assert headers(whole)["repr-digest"] == headers(whole)["content-digest"] == DIGEST
    assert headers(ask(known, "HEAD", want_repr_digest="sha-256=3"))["repr-digest"] == DIGEST
    # RFC 9530 §3.1: of a part, the digest of the whole is Repr-Digest, and not Content-Digest
    part = headers(ask(known, range="bytes=0-9", want_repr_digest="sha-256=3", want_content_digest="sha-256=1"))
    assert part["repr-digest"] == DIGEST
    assert "content-digest" not in part
    assert "repr-digest" not in headers(ask(file(), want_repr_digest="sha-256=3"))


def test_what_depends_on_the_request_is_said_in_vary_also_by_a_304() -> None:
    coded = file(coding="gzip", vary="accept-encoding")
    assert headers(ask(coded))["content-encoding"] == "gzip"
    assert headers(ask(coded))["vary"] == headers(ask(coded, if_none_match='"abc"'))["vary"] == "accept-encoding"
    assert "content-encoding" not in headers(ask(coded, if_none_match='"abc"'))


NAMES = ["range", "if-range", "if-match", "if-none-match", "if-modified-since", "if-unmodified-since",
         "want-repr-digest", "want-content-digest"]  # fmt: skip
VALUES = st.one_of(
    st.text(st.characters(max_codepoint=255, exclude_characters="\r\n\0"), max_size=60),
    st.text("0123456789-, ", max_size=20).map("bytes={}".format),
    st.text('W/"abcold, *', max_size=12),
    st.sampled_from(["bytes=0-9,20-29", "bytes=-1,0-0", "bytes=5-", '"abc"', 'W/"abc"', '"x", "old"']),
    st.sampled_from(
        ["*", "Sun, 06 Nov 1994 08:49:37 GMT", "Sunday, 06-Nov-94 08:49:37 GMT", "Sun Nov  6 08:49:37 1994"]
    ),
)


@settings(max_examples=4_000, deadline=None)
@given(
    st.sampled_from(["GET", "HEAD"]),
    st.dictionaries(st.sampled_from(NAMES), VALUES, max_size=5),
    st.sampled_from([0, 1, 4000, None]),
)
def test_any_head_gets_a_reply_that_holds_together(method: str, fields: dict[str, str], size: int | None) -> None:
    pairs = [(name.encode(), value.encode("latin-1")) for name, value in fields.items()]
    try:
        reply = plan(RequestHead(method, pairs), file(size, earlier_tag="old", sha256=bytes(32)))
    except Refusal as refused:
        assert refused.reason.status in (412, 416)
        return
    named = headers(reply)
    assert reply.status in (200, 206, 304)
    if method == "GET" and reply.status != 304 and size is not None:
        assert int(named["content-length"]) == reply.length == sum(part_length(part) for part in reply.parts)
    with pytest.raises(TypeError, match="no length yet"):
        part_length(Streamed(SOURCE))
    if reply.status == 206:
        assert method == "GET"
        assert ("content-range" in named) is (len(reply.spans) == 1)
    if reply.status == 304 or method == "HEAD":
        assert not reply.parts


def test_a_seal_does_not_travel_on_in_a_referer() -> None:
    assert headers(ask(file(sealed=True)))["referrer-policy"] == "no-referrer"
    assert "referrer-policy" not in headers(ask(file()))


PARTS = st.lists(
    st.one_of(st.binary(max_size=20), st.tuples(st.integers(0, 50), st.integers(1, 30))), min_size=1, max_size=12
)


@given(PARTS, st.data())
def test_any_cut_through_parts_holds_just_those_bytes(given_parts: list[object], data: st.DataObject) -> None:
    source = bytes(range(100))
    parts = [part if isinstance(part, bytes) else Slice(SOURCE, part[0], part[1]) for part in given_parts]  # type: ignore[index]

    def joined(pieces: list[object]) -> bytes:
        return b"".join(p if isinstance(p, bytes) else source[p.offset : p.offset + p.length] for p in pieces)  # type: ignore[attr-defined]

    whole = joined(parts)  # type: ignore[arg-type]
    start = data.draw(st.integers(0, len(whole)))
    stop = data.draw(st.integers(start, len(whole)))
    assert joined(Content(parts).cut(start, stop)) == whole[start:stop]  # type: ignore[arg-type]


def test_a_part_has_the_headers_of_the_whole_but_for_its_own_length_and_place() -> None:
    whole, part = ask(file()), ask(file(), range="bytes=100-199")
    own = {b"content-length", b"content-range"}
    assert {field for field in part.headers if field[0] not in own} == {f for f in whole.headers if f[0] not in own}
    assert own <= {name for name, _ in part.headers}


class Slow(Source):
    """What has to be waited for."""

    may_block = True


def test_a_content_says_whether_it_is_kept_and_whether_it_has_to_be_waited_for() -> None:
    assert Content([b"abc", Slice(SOURCE, 0, 10)]).kept
    assert not Content([b"abc", Slice(SOURCE, 0, 10)]).may_block
    assert Content([b"abc", Slice(SOURCE, 0, 10), Slice(Slow(), 0, 10)]).may_block
