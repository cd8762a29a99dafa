"""Applications of somebody's own, served for a test."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import ExitStack

import httpx
import pytest
from fastapi import FastAPI

from tests.in_threads import serving
from tests.running import NO_TLS

Run = Callable[[FastAPI], httpx.Client]


@pytest.fixture
def run() -> Iterator[Run]:
    """Serves applications in threads of the test, so that it may look into them."""
    with ExitStack() as stack:

        def begin(app: FastAPI) -> httpx.Client:
            url = f"http://127.0.0.1:{stack.enter_context(serving(app))}"
            return stack.enter_context(httpx.Client(base_url=url, trust_env=False, timeout=20, verify=NO_TLS))

        yield begin
