"""The server's internals are what the zero-copy protocol was written against."""

from __future__ import annotations

import hashlib
import inspect
import logging
import types
from collections.abc import Callable
from typing import Any

import httptools
import pytest
import uvicorn
from hypothesis import example, given
from hypothesis import strategies as st
from uvicorn.protocols.http import httptools_impl
from uvicorn.protocols.http.flow_control import FlowControl

from invio.delivery.sending.uvicorn import expected
from invio.delivery.sending.uvicorn.framing import path_and_query
from invio.delivery.sending.uvicorn.protocol import ZeroCopyProtocol

# The first half of each function's SHA-256, in the version that the constraints name.
SOURCES = {
    "HttpToolsProtocol.__init__": "4f08999410347141",
    "HttpToolsProtocol.connection_made": "6efb565ff3d36b91",
    "HttpToolsProtocol.connection_lost": "c91a4c9bf2e29c55",
    "HttpToolsProtocol.eof_received": "5652627579a02369",
    "HttpToolsProtocol._unset_keepalive_if_required": "00a6a4e47214e68e",
    "HttpToolsProtocol._get_upgrade": "7b1305aac7b87064",
    "HttpToolsProtocol._should_upgrade_to_ws": "d580849b4df878c3",
    "HttpToolsProtocol._unsupported_upgrade_warning": "55bbd2762b189d9a",
    "HttpToolsProtocol._should_upgrade": "8fcad1ab8e096739",
    "HttpToolsProtocol.data_received": "010a7ae59a5d3b1a",
    "HttpToolsProtocol.handle_websocket_upgrade": "179c4f769386ab89",
    "HttpToolsProtocol.send_400_response": "ae5a4a3782b646fd",
    "HttpToolsProtocol.on_message_begin": "96d377fdc7c2baef",
    "HttpToolsProtocol.on_url": "37be44e962b04ca8",
    "HttpToolsProtocol.on_header": "65d62c044f61fdbd",
    "HttpToolsProtocol.on_headers_complete": "1ea8589acfad92d8",
    "HttpToolsProtocol._start_asgi_task": "9c08c2571ae9b038",
    "HttpToolsProtocol.on_body": "dba9c32aeba35b6a",
    "HttpToolsProtocol.on_message_complete": "1fbad42dc31fc01f",
    "HttpToolsProtocol.on_response_complete": "64e254f28e389e76",
    "HttpToolsProtocol.shutdown": "d7351fa33f00d430",
    "HttpToolsProtocol.pause_writing": "17a8fd215d96a13c",
    "HttpToolsProtocol.resume_writing": "7844bbaa8cceb1ef",
    "HttpToolsProtocol.timeout_keep_alive_handler": "8b53bf5f2e202970",
    "RequestResponseCycle.__init__": "4d2f220910c33c12",
    "RequestResponseCycle.run_asgi": "0f33f2449a444bc2",
    "RequestResponseCycle.send_500_response": "37c64da40eedaeaf",
    "RequestResponseCycle.send": "abdd8601b326a8da",
    "RequestResponseCycle.receive": "8124ae006be71184",
    "FlowControl.__init__": "0152d94a040758b5",
    "FlowControl.drain": "4bda6b61c277ae87",
    "FlowControl.pause_reading": "7c27388bb984e9ed",
    "FlowControl.resume_reading": "a0429d30857e8488",
    "FlowControl.pause_writing": "93d4a08a9f2da9d6",
    "FlowControl.resume_writing": "a343e8b0baf08901",
}


def sources() -> dict[str, str]:
    kinds = (httptools_impl.HttpToolsProtocol, httptools_impl.RequestResponseCycle, FlowControl)
    return {
        f"{kind.__name__}.{name}": hashlib.sha256(inspect.getsource(function).encode()).hexdigest()[:16]
        for kind in kinds
        for name, function in vars(kind).items()
        if inspect.isfunction(function)
    }


@pytest.fixture
def server() -> Any:
    """A copy of the server's module, for a test to alter."""
    return types.SimpleNamespace(**vars(httptools_impl))


def test_the_sources_that_are_overridden_or_copied_are_those_that_were_read() -> None:
    if not uvicorn.__version__.startswith(expected.WRITTEN_AGAINST):
        pytest.skip(f"uvicorn {uvicorn.__version__} is not the version that the constraints name")
    other = sorted(name for name in SOURCES.keys() | sources() if SOURCES.get(name) != sources().get(name))
    assert not other, f"{other}: read the difference, bring protocol.py and exchange.py up to date, then SOURCES"


def test_the_installed_server_is_as_expected() -> None:
    assert expected.differences(httptools_impl) == []
    assert expected.zero_copy_protocol() is ZeroCopyProtocol


def test_another_server_is_told_apart_by_its_methods_and_attributes(server: Any) -> None:
    class Cycle(httptools_impl.RequestResponseCycle):
        def __init__(self, scope: Any) -> None:
            self.scope = scope

    class Protocol(httptools_impl.HttpToolsProtocol):
        def on_body(self, body: bytes, last: bool) -> None:  # type: ignore[override]
            raise NotImplementedError

    server.RequestResponseCycle, server.HttpToolsProtocol = Cycle, Protocol
    found = expected.differences(server)
    assert "HttpToolsProtocol.on_body takes ('body', 'last'), not ('body',)" in found
    assert "RequestResponseCycle has no expected_content_length" in found
    del server.FlowControl, server.STATUS_LINE
    assert {"there is no FlowControl", "there is no STATUS_LINE"} <= set(expected.differences(server))


def test_with_another_server_its_own_protocol_is_used_and_the_log_says_so(
    monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    monkeypatch.setattr(httptools_impl, "STATUS_LINE", {})
    with caplog.at_level(logging.WARNING, "invio.delivery"):
        assert expected.zero_copy_protocol() is httptools_impl.HttpToolsProtocol
    [record] = caplog.records
    assert (record.message, record.fields["differences"]) == ("server.unexpected", ["there is no STATUS_LINE"])  # type: ignore[attr-defined]


def let_through(target: bytes) -> bytes | None:
    """A request's target as the parser of requests gives it; None where it refuses the request."""
    found: list[bytes] = []
    parser = httptools.HttpRequestParser(types.SimpleNamespace(on_url=found.append))
    try:
        parser.feed_data(b"GET %b HTTP/1.1\r\nHost: a\r\n\r\n" % target)
    except httptools.HttpParserError:
        return None
    return b"".join(found)


def divided(divide: Callable[[bytes], tuple[bytes, bytes]], target: bytes) -> tuple[bytes, bytes] | None:
    try:
        return divide(target)
    except httptools.HttpParserInvalidURLError:
        return None


def as_the_server(target: bytes) -> tuple[bytes, bytes]:
    url = httptools.parse_url(target)
    return url.path, url.query or b""


def test_the_parser_of_requests_lets_printable_ascii_through_and_nothing_else() -> None:
    let = {mark for mark in range(256) if let_through(b"/a%c?b%c" % (mark, mark)) == b"/a%c?b%c" % (mark, mark)}
    assert let == set(range(0x21, 0x7F))


@given(
    st.builds(bytes.__add__, st.sampled_from([b"/", b"//", b"", b"*", b"http://a/"]), st.binary(max_size=20))
    | st.text(st.characters(min_codepoint=0x21, max_codepoint=0x7E), max_size=30).map(lambda text: b"/" + text.encode())
)
@example(b"/get/files/a?b?c")
@example(b"/a?")
@example(b"/a?b#c")
@example(b"/a#b?c")
@example(b"//host:port/a")
@example(b"http://a/b?c")
def test_a_target_is_divided_as_the_server_divides_it(target: bytes) -> None:
    let = let_through(target)
    if let is not None:
        assert divided(path_and_query, let) == divided(as_the_server, let)
