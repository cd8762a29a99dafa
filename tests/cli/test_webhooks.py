"""`invio webhooks`, as it is typed."""

from __future__ import annotations

import json
from collections.abc import Callable
from subprocess import CompletedProcess

import pytest

from tests.running import Service, until

Invio = Callable[..., CompletedProcess[str]]


@pytest.fixture
def service(start: Callable[..., Service]) -> Service:
    return start(files={"a.txt": b"a"})


@pytest.fixture
def ann(invio: Invio, service: Service) -> Invio:
    return lambda *given: invio(*given, url=service.url, token=service.tokens["ann"])


def test_a_webhook_is_added_tried_looked_at_and_removed(ann: Invio) -> None:
    added = ann("webhooks", "add", "https://localhost:1/hook", "--event", "link.made", "--label", "the desk")
    assert added.stdout.startswith("https://localhost:1/hook is told of link.made from now on; its id is ")
    hook = added.stdout.split()[-1]
    assert "link.made (the desk)" in ann("webhooks", "list").stdout
    assert json.loads(ann("webhooks", "list", "--json").stdout)["webhooks"][0]["id"] == hook
    assert ann("webhooks", "try", hook).returncode == 0
    until(lambda: "is not a public one" in ann("webhooks", "deliveries", hook).stdout)
    [told] = json.loads(ann("webhooks", "deliveries", hook, "--json").stdout)["deliveries"]
    assert (told["event"], told["state"], told["attempts"]) == ("webhook.trial", "waiting", 1)
    assert ann("webhooks", "again", hook, str(told["id"])).stdout == f"{told['id']} is being told once more\n"
    assert ann("webhooks", "remove", hook).returncode == 0
    gone = ann("webhooks", "try", hook)
    assert (gone.returncode, "there is no such webhook" in gone.stderr) == (1, True)


def test_what_cannot_be_a_webhook_is_said(ann: Invio) -> None:
    plain = ann("webhooks", "add", "http://app.example.org/", "--event", "link.made")
    assert plain.returncode == 1
    assert "has to begin with https://, unless 'origins' of [webhooks] in the settings names its origin" in plain.stderr
    assert ann("webhooks", "add", "https://app.example.org/", "--event", "link.mad").returncode == 2
    assert ann("webhooks", "add", "https://app.example.org/").returncode == 2
