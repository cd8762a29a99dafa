"""What this folder expects of the server's internals, and what is used where they are otherwise.

The protocol overrides methods of uvicorn's protocol for httptools and sets attributes of its parts. `pyproject.toml`
bounds the versions; whoever installs another one all the same gets the server's own protocol, with a warning: files
are then read and sent in pieces, and everything else is as it was.

`tests/delivery/test_server_internals.py` compares the source of what is overridden with what it was when this was
written; when that fails, read the difference, bring `protocol` and `exchange` up to date, and then the test.
"""

from __future__ import annotations

import inspect
import logging
from collections.abc import Callable
from typing import Any

from uvicorn import __version__ as server_version

log = logging.getLogger("invio.delivery")

WRITTEN_AGAINST = "0.54"

# Methods that are overridden or called, with the names of their parameters after `self`.
METHODS: dict[str, dict[str, tuple[str, ...]]] = {
    "HttpToolsProtocol": {
        "__init__": ("config", "server_state", "app_state", "_loop"),
        "connection_made": ("transport",),
        "connection_lost": ("exc",),
        "data_received": ("data",),
        "eof_received": (),
        "_unset_keepalive_if_required": (),
        "send_400_response": ("msg",),
        "on_message_begin": (),
        "on_url": ("url",),
        "on_header": ("name", "value"),
        "on_headers_complete": (),
        "_start_asgi_task": ("cycle", "app"),
        "on_body": ("body",),
        "on_message_complete": (),
        "on_response_complete": (),
        "shutdown": (),
        "timeout_keep_alive_handler": (),
    },
    "RequestResponseCycle": {
        "__init__": (
            "scope", "transport", "flow", "logger", "access_logger", "access_log", "default_headers", "message_event",
            "expect_100_continue", "keep_alive", "on_response",
        ),
        "run_asgi": ("app",),
        "send": ("message",),
        "receive": (),
    },
    "FlowControl": {
        "__init__": ("transport",),
        "drain": (),
        "pause_reading": (),
        "resume_reading": (),
    },
}  # fmt: skip

# Attributes of instances that are read or set.
ATTRIBUTES: dict[str, tuple[str, ...]] = {
    "HttpToolsProtocol": (
        "config", "app", "loop", "logger", "access_logger", "parser", "root_path", "limit_concurrency",
        "timeout_keep_alive_task", "timeout_keep_alive", "server_state", "connections", "tasks", "transport", "flow",
        "server", "client", "scheme", "pipeline", "scope", "headers", "expect_100_continue", "cycle",
    ),
    "RequestResponseCycle": (
        "scope", "flow", "default_headers", "message_event", "on_response", "disconnected", "keep_alive",
        "waiting_for_100_continue", "body", "more_body", "response_started", "response_complete", "chunked_encoding",
        "expected_content_length",
    ),
    "FlowControl": ("read_paused", "write_paused", "_is_writable_event"),
}  # fmt: skip


def differences(module: Any) -> list[str]:
    """What of the server's module for httptools is other than this folder expects, a line each."""
    found = [] if isinstance(getattr(module, "STATUS_LINE", {}).get(200), bytes) else ["there is no STATUS_LINE"]
    for name, methods in METHODS.items():
        kind = getattr(module, name, None)
        if kind is None:
            found.append(f"there is no {name}")
            continue
        for method, expected in methods.items():
            there = _parameters(getattr(kind, method, None))
            if there != expected:
                found.append(f"{name}.{method} takes {there}, not {expected}")
        sets = getattr(kind.__init__, "__code__", compile("", "", "exec")).co_names
        found += [f"{name} has no {one}" for one in ATTRIBUTES[name] if one not in sets]
    return found


def _parameters(method: Callable[..., Any] | None) -> tuple[str, ...] | None:
    if method is None:
        return None
    return tuple(inspect.signature(method).parameters)[1:]


def zero_copy_protocol() -> type[Any]:
    """The protocol that sends files without reading them, or the server's own where that one cannot be extended."""
    from uvicorn.protocols.http import httptools_impl

    different = differences(httptools_impl)
    if different:
        fields = {"server": server_version, "written_against": WRITTEN_AGAINST, "differences": different}
        log.warning("server.unexpected", extra={"fields": fields})
        return httptools_impl.HttpToolsProtocol
    from invio.delivery.sending.uvicorn.protocol import ZeroCopyProtocol

    return ZeroCopyProtocol


ZeroCopyProtocol = zero_copy_protocol()
