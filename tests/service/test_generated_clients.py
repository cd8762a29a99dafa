"""Clients that common generators make of the API's description: they compile, and call every operation."""

from __future__ import annotations

import importlib
import inspect
import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.rules import rule
from tests.running import NO_TLS, SETTINGS, Service

ROOT = Path(__file__).parents[2]
MODULES = ROOT / "console" / "node_modules"
# Operations in an order in which each has what it needs: path parameters, query, body, and what is answered.
CALLS: list[tuple[str, dict[str, Any], dict[str, Any], Any, int]] = [
    ("get_health", {}, {}, None, 200),
    ("get_readiness", {}, {}, None, 200),
    ("get_own_identity", {}, {}, None, 200),
    ("list_files", {}, {"in": "files/"}, None, 200),
    ("get_file_facts", {"address": "files/a.txt"}, {}, None, 200),
    ("fetch_file", {"address": "files/a.txt"}, {}, None, 200),
    ("fetch_file_headers", {"address": "files/a.txt"}, {}, None, 200),
    ("put_file", {"address": "models/new.bin"}, {}, b"content", 201),
    ("list_versions", {"address": "models/new.bin"}, {}, None, 200),
    ("renew_version", {"address": "models/new.bin"}, {"version": 1}, None, 200),
    ("remove_file", {"address": "models/new.bin"}, {}, None, 204),
    ("make_bundle", {}, {}, {"files": ["files/a.txt"]}, 201),
    ("get_bundle", {"bundle_id": "BUNDLE"}, {}, None, 200),
    ("list_bundle_entries", {"bundle_id": "BUNDLE"}, {}, None, 200),
    ("make_bundle_from_form", {}, {}, {"file": ["files/a.txt"]}, 303),
    ("make_link", {}, {}, {"address": "files/a.txt", "id": "seven", "until": "2030-01-01T00:00Z"}, 201),
    ("list_links", {}, {}, None, 200),
    ("revoke_link", {"link": "seven@ann"}, {}, None, 200),
    ("revoke_links_of", {}, {"maker": "ann"}, None, 200),
    ("explain_decision", {}, {"address": "files/a.txt"}, None, 200),
    ("explain_link", {}, {}, {"link": f"/get/files/a.txt?key=k1&seal={'A' * 43}"}, 200),
    ("get_rules", {}, {}, None, 200),
    ("get_rules_file", {}, {}, None, 200),
    ("list_expectations", {}, {}, None, 200),
    ("try_rules", {}, {}, {"text": "# none"}, 200),
    ("put_rules_file", {}, {}, {"text": "# none", "replaces": "another"}, 412),
    ("get_access_matrix", {}, {"in": "files/"}, None, 200),
    ("list_audience", {}, {"address": "files/a.txt"}, None, 200),
    ("list_keys", {}, {}, None, 200),
    ("make_key", {}, {}, None, 201),
    ("retire_key", {"key": "k1"}, {}, None, 200),
    ("get_service_state", {}, {}, None, 200),
    ("save_recipient", {"recipient": "gull"}, {}, {"name": "Gull", "groups": ["crew"]}, 200),
    ("change_recipient", {"recipient": "gull"}, {}, {"add_groups": ["deck"]}, 200),
    ("list_recipients", {}, {}, None, 200),
    ("get_recipient", {"recipient": "gull"}, {}, None, 200),
    ("list_sessions", {"recipient": "gull"}, {}, None, 200),
    ("end_sessions", {"recipient": "gull"}, {}, None, 204),
    ("make_token", {"recipient": "gull"}, {}, {"label": "bridge"}, 201),
    ("end_token", {"recipient": "gull", "token": "TOKEN"}, {}, None, 204),
    ("set_password", {"recipient": "gull"}, {}, {"password": "lantern on the pier"}, 204),
    ("list_quotas", {}, {"recipient": "gull"}, None, 200),
    ("grant_quota", {"recipient": "gull"}, {}, {"rule": "crew reads", "files": 2}, 200),
    ("reset_quota", {"recipient": "gull"}, {"rule": "crew reads"}, None, 200),
    ("disable_recipient", {"recipient": "gull"}, {}, None, 200),
    ("enable_recipient", {"recipient": "gull"}, {}, None, 200),
    ("remove_recipient", {"recipient": "gull"}, {}, None, 204),
    ("get_history", {}, {}, None, 200),
    ("get_history_summary", {}, {}, None, 200),
    ("list_transfers", {}, {}, None, 200),
    ("get_transfer", {"transfer": "TRANSFER"}, {}, None, 200),
    ("get_receipt", {"transfer": "TRANSFER"}, {}, None, 200),
    ("get_transfer_requests", {"transfer": "TRANSFER"}, {}, None, 200),
    ("get_public_keys", {}, {}, None, 200),
    ("make_webhook", {}, {}, {"url": "https://192.0.2.1/", "events": ["link.made"]}, 201),
    ("list_webhooks", {}, {}, None, 200),
    ("try_webhook", {"webhook": "000000000000"}, {}, None, 404),
    ("list_deliveries", {"webhook": "000000000000"}, {}, None, 404),
    ("repeat_delivery", {"webhook": "000000000000", "delivery": 1}, {}, None, 404),
    ("remove_webhook", {"webhook": "000000000000"}, {}, None, 404),
    ("end_transfer", {"transfer": "TRANSFER"}, {}, None, 400),
    ("list_audit_lines", {}, {}, None, 200),
    ("make_short_link", {}, {}, {"address": "files/a.txt"}, 201),
    ("sign_in", {}, {}, {"token": "SECRET"}, 201),
    ("sign_out", {}, {}, None, 204),
]
# Refused, with a problem that is read as one.
REFUSED: list[tuple[str, dict[str, Any], int]] = [
    ("get_file_facts", {"address": "files/none.txt"}, 404),
    ("put_file", {"address": "files/x.bin"}, 405),
    ("change_recipient", {"recipient": "nobody"}, 404),
]
RULES = rule("group:crew", "files/**", "list read", "crew reads", quota={"files": 3, "per": "1d"}) + rule(
    "group:admins", "**", "list read bundle link put manage administer", "admins"
)


@pytest.fixture
def service(start: Callable[..., Service]) -> Service:
    settings = f'{SETTINGS}[stores.models]\nkind = "managed"\nroot = "models"\n'
    return start(files={"a.txt": b"content"}, rules=RULES, settings=settings)


def description(service: Service) -> dict[str, Any]:
    described: dict[str, Any] = service.get("/api/openapi.json").json()
    return described


@pytest.fixture
def generated(service: Service, tmp_path: Path) -> Iterator[str]:
    """The package that a generator makes of the description."""
    (tmp_path / "openapi.json").write_text(json.dumps(description(service)))
    (tmp_path / "config.yaml").write_text("content_type_overrides: {application/jose: text/plain}\n")
    command = [str(Path(sys.executable).with_name("openapi-python-client")), "generate", "--meta", "none", "--fail-on-warning",
               "--config", "config.yaml", "--path", "openapi.json", "--output-path", "made_client"]  # fmt: skip
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    made = subprocess.run(
        command, cwd=tmp_path, capture_output=True, text=True, timeout=120, env={**os.environ, "PATH": path}
    )
    assert made.returncode == 0, made.stdout + made.stderr
    sys.path.insert(0, str(tmp_path))
    yield "made_client"
    sys.path.remove(str(tmp_path))
    for name in [name for name in sys.modules if name.partition(".")[0] == "made_client"]:
        del sys.modules[name]


def test_a_python_client_calls_every_operation(service: Service, generated: str) -> None:
    document = description(service)
    operations = {one["operationId"]: one for path in document["paths"].values() for one in path.values()}
    assert set(operations) - {call[0] for call in CALLS} == {"follow_transfers", "follow_download"}, "which do not end"
    client = importlib.import_module(f"{generated}.client").AuthenticatedClient(
        base_url=service.url, token=service.tokens["ann"], verify_ssl=NO_TLS, httpx_args={"trust_env": False}
    )
    known = {"SECRET": service.tokens["ann"]}

    def call(called: str, path: dict[str, Any], query: dict[str, Any], body: Any) -> Any:
        tag = operations[called]["tags"][0]
        module = importlib.import_module(f"{generated}.api.{tag}.{called}")
        given = {name: known.get(value, value) for name, value in path.items()}
        given |= {f"{name}_" if name in ("in", "as") else name: value for name, value in query.items()}
        kind = inspect.signature(module.sync_detailed).parameters.get("body")
        if isinstance(body, bytes):
            types = importlib.import_module(f"{generated}.types")
            given["body"] = types.File(payload=body)
        elif kind is not None:
            name = str(kind.annotation).split("|", maxsplit=1)[0].strip().rpartition(".")[2].removesuffix("'>")
            model = getattr(importlib.import_module(f"{generated}.models"), name)
            given["body"] = model.from_dict({key: known.get(str(value), value) for key, value in body.items()})
        return module.sync_detailed(client=client, **given)

    for called, path, query, body, status in CALLS:
        answer = call(called, path, query, body)
        assert answer.status_code == status, (called, answer.content)
        assert str(status) in operations[called]["responses"], called
        if answer.headers.get("content-type") == "application/json":
            assert answer.parsed is not None, called
        if called == "make_bundle":
            known["BUNDLE"] = answer.parsed.id
        if called == "make_token":
            known["TOKEN"] = answer.parsed.id
        if called == "list_transfers":
            known["TRANSFER"] = answer.parsed.transfers[0].id
    for called, path, status in REFUSED:
        answer = call(called, path, {}, b"x" if called == "put_file" else {})
        assert (answer.status_code, answer.parsed.status) == (status, status), called


PROGRAM = """
import createClient from 'openapi-fetch'
import type { paths } from './schema'

const known: Record<string, string> = { SECRET: process.argv[3]! }
const client = createClient<paths>({
  baseUrl: process.argv[2]!,
  headers: { authorization: `Bearer ${process.argv[3]}` },
})
const statuses: Record<string, number> = {}
async function tried(called: string, made: Promise<{ response: Response; data?: unknown }>) {
  const { response, data } = await made
  statuses[called] = response.status
  const told = data as { id?: string; transfers?: { id: string }[] } | undefined
  const id = told?.id
  if (called === 'make_bundle') known['BUNDLE'] = id!
  if (called === 'make_token') known['TOKEN'] = id!
  if (called === 'list_transfers') known['TRANSFER'] = told!.transfers![0]!.id
}
CALLS
console.log(JSON.stringify(statuses))
"""


def test_a_typescript_client_compiles_and_calls_every_operation(service: Service, tmp_path: Path) -> None:
    document = description(service)
    where = {
        one["operationId"]: (method, path) for path, every in document["paths"].items() for method, one in every.items()
    }
    lines = []
    for called, path, query, body, _ in CALLS:
        method, place = where[called]
        values = [
            f"{name}: " + (f"known['{value}'] ?? " if isinstance(value, str) else "") + json.dumps(value)
            for name, value in path.items()
        ]
        given = [f"path: {{ {', '.join(values)} }}"] if values else []
        given += [f"query: {json.dumps(query)}"] if query else []
        parts = [f"params: {{ {', '.join(given)} }}"] if given else []
        if isinstance(body, bytes):
            parts.append(f"body: {json.dumps(body.decode())}, bodySerializer: (body) => body")
            parts.append("headers: { 'content-type': 'application/octet-stream' }")
        elif body is not None:
            text = json.dumps(body).replace('"SECRET"', "known['SECRET']!")
            parts.append(f"body: {text}")
            if called == "make_bundle_from_form":
                parts.append("headers: { 'content-type': 'application/x-www-form-urlencoded' }, redirect: 'manual'")
        if called.startswith("fetch") or called == "get_receipt":
            parts.append("parseAs: 'text'")
        lines.append(f"await tried('{called}', client.{method.upper()}('{place}', {{ {', '.join(parts)} }}))")
    (tmp_path / "openapi.json").write_text(json.dumps(document))
    (tmp_path / "package.json").write_text('{"type": "module"}')
    (tmp_path / "node_modules").symlink_to(MODULES)
    (tmp_path / "program.ts").write_text(PROGRAM.replace("CALLS", "\n".join(lines)))
    (tmp_path / "tsconfig.json").write_text(
        json.dumps(
            {
                "compilerOptions": {
                    "strict": True, "module": "esnext", "target": "es2022", "moduleResolution": "bundler",
                    "lib": ["es2022", "dom"], "types": [], "skipLibCheck": True, "outDir": ".",
                },
                "files": ["program.ts", "process.d.ts"],
            }
        )
    )  # fmt: skip
    (tmp_path / "process.d.ts").write_text("declare const process: { argv: string[] }\n")

    def run(*command: str) -> str:
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=120)
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    bin_ = MODULES / ".bin"
    run(str(bin_ / "openapi-typescript"), "openapi.json", "-o", "schema.d.ts", "--default-non-nullable=false")
    run(str(bin_ / "tsc"), "-p", ".")
    statuses = json.loads(run("node", "program.js", service.url, service.tokens["ann"]))
    assert {called: statuses[called] for called, *_, status in CALLS if statuses[called] != status} == {}


def test_the_description_says_what_is_sent(service: Service) -> None:
    document = description(service)
    text = json.dumps(document)
    assert "HTTPValidationError" not in text
    assert '"*/*"' not in text
    assert set(document["components"]["securitySchemes"]) == {"bearer", "session"}
    for path, every in document["paths"].items():
        for method, operation in every.items():
            assert operation["summary"], (method, path)
            for status, answer in operation["responses"].items():
                if int(status) >= 400 and path != "/readyz":
                    assert list(answer["content"]) == ["application/problem+json"], (method, path, status)
    shapes = document["components"]["schemas"]
    assert shapes["LinkAsk"]["examples"]
    assert shapes["TransferShape"]["properties"]["started"]["format"] == "date-time"
    with httpx.Client(base_url=service.url, trust_env=False, verify=NO_TLS) as client:
        refused = client.post("/api/links", content=b"{", headers={"content-type": "application/json"})
    assert str(refused.status_code) in document["paths"]["/api/links"]["post"]["responses"]
    assert refused.headers["content-type"] == "application/problem+json"
