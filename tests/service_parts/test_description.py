"""When the API's description is made, and by whom."""

from __future__ import annotations

import asyncio
import json
import threading
from typing import Any

import pytest
from fastapi import FastAPI, Request
from starlette.routing import Route

from invio.service import description
from invio.service.description import described


def test_it_is_made_once_and_not_by_the_event_loop(monkeypatch: pytest.MonkeyPatch) -> None:
    makers: list[threading.Thread] = []
    all_have_asked = threading.Event()

    def document(api: FastAPI) -> dict[str, Any]:
        makers.append(threading.current_thread())
        assert all_have_asked.wait(10)
        return {"paths": {"/é": {}}}

    monkeypatch.setattr(description, "_document", document)
    api = FastAPI(openapi_url=None)
    described(api)
    [endpoint] = [route.endpoint for route in api.routes if isinstance(route, Route)]

    async def answered(*roots: str) -> list[Any]:
        """What requests at once are answered, by applications below these paths."""
        asked = [Request({"type": "http", "method": "GET", "headers": [], "root_path": root}) for root in roots]
        answers = asyncio.gather(*map(endpoint, asked))
        await asyncio.sleep(0)
        all_have_asked.set()
        return [json.loads(answer.body) for answer in await answers]

    assert asyncio.run(answered("", "", "/deep/files", "/deep/files/")) == [
        {"paths": {"/é": {}}},
        {"paths": {"/é": {}}},
        {"paths": {"/é": {}}, "servers": [{"url": "/deep/files"}]},
        {"paths": {"/é": {}}, "servers": [{"url": "/deep/files"}]},
    ]
    assert len(makers) == 1
    assert makers[0] is not threading.main_thread()
    assert api.openapi() == {"paths": {"/é": {}}}, "what one of them was told stays theirs"
