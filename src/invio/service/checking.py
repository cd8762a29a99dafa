"""`invio check`: what is wrong with a service, found before it hurts.

Nothing is changed, and nobody but the stores and whoever listens at the service's own address is asked: it may be run
beside a running service, by anybody who may read its files. What a part needs of one before it, such as the records, it
does without where that one has a fault.
"""

from __future__ import annotations

import http.client
import ipaddress
import json
import os
import resource
import shutil
import socket
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

import sqlalchemy as sa

from invio.core.errors import ConfigurationError
from invio.core.figures import size_text
from invio.core.files import Caller
from invio.core.moments import timestamp
from invio.core.rules.decisions import RuleSet
from invio.core.rules.proofs import check as check_expectations
from invio.records import recipients, transfers, webhooks
from invio.records.database import OlderRecords, open_to_read
from invio.records.serving_lock import serving
from invio.service.assembly import check_roots, provider_of
from invio.service.configuration import read_keys
from invio.service.open_stores import fault_of, open_store
from invio.service.parts_of_settings import pages_of
from invio.service.permissions import exposed
from invio.service.proving import Proving
from invio.service.settings import BadSettings, Settings, read_settings
from invio.service.store_settings import DirectorySettings, ManagedSettings, RemoteSettings
from invio.stores.store import Store
from invio.workers.pool import DeadlinePassed, Pool

Grade = Literal["ok", "warning", "fault"]

_STORE_WITHIN = 5.0  # seconds in which a store answers
_SERVICE_WITHIN = 3.0  # seconds in which a running service does
_EXPIRES_SOON = 14 * 86_400.0  # seconds
_LATELY = 7 * 86_400.0  # seconds
_CLOCKS_DIFFER = 60.0  # seconds that a line of the history may be ahead of the clock
_LITTLE_SPACE = (1 << 30, 0.05)  # bytes, and part of the disk: less than both is a warning
_NO_SPACE = 64 << 20  # bytes
_FEW_FILES = 0.01  # of the files that a disk can hold
_FEW_DESCRIPTORS = 4096  # connections and open files
_NAMED = 5  # tokens that are named, at most


@dataclass(frozen=True, slots=True)
class Seen:
    """One thing that was looked at: which part, how it is, and in words what is wrong and what to do."""

    part: str
    grade: Grade
    said: str


@dataclass(slots=True)
class _Service:
    """What is looked at, and what the parts before found of it."""

    settings: Settings
    now: float
    engine: sa.Engine | None = None
    known: list[recipients.Recipient] = field(default_factory=list)
    stores: dict[str, Store] = field(default_factory=dict)


def look_over(file: Path, now: float) -> Iterator[Seen]:
    """Looks at all parts of the service with these settings, one after the other; `now` in Unix seconds."""
    try:
        settings = read_settings(file)
    except BadSettings as error:
        for said in str(error).splitlines():
            yield Seen("settings", "fault", said)
        return
    service = _Service(settings, now)
    for part, look in _PARTS.items():
        try:
            yield from (Seen(part, grade, said) for grade, said in look(service))
        except ConfigurationError as error:
            yield Seen(part, "fault", str(error))
    for name in settings.stores:
        yield Seen(f"store {name}", *_store(service, name))
    yield from (Seen("rules", grade, said) for grade, said in _rules(service))
    if service.engine is not None:
        service.engine.dispose()


_Looked = Iterator[tuple[Grade, str]]


def _shown(moment: float) -> str:
    """Unix seconds for people."""
    return timestamp(moment)[:16].replace("T", " ") + " UTC"


def _settings(service: _Service) -> _Looked:
    settings = service.settings
    check_roots(settings)
    pages_of(settings)
    provider_of(settings)
    count = len(settings.stores)
    yield "ok", f"{settings.file} is well formed and names {count} store{'s' * (count != 1)}"


def _rights(service: _Service) -> _Looked:
    found = exposed(service.settings)
    yield from (("warning", said) for said in found)
    if not found:
        yield "ok", "nobody else on this machine may read keys, records or settings"


def _keys(service: _Service) -> _Looked:
    ring = read_keys(service.settings.path(service.settings.service.keys))
    count = len(ring.keys)
    yield "ok", f"{count} key{'s' * (count != 1)}; {ring.current} seals new links"


def _records(service: _Service) -> _Looked:
    file = service.settings.database
    if not file.exists():
        yield from _new_records(file.parent)
        return
    try:
        service.engine = open_to_read(file)
    except OlderRecords as error:
        if serving(file.parent):
            yield "warning", f"{file}: a service of an earlier version of Invio runs with these records; start it anew"
        else:
            yield "ok", str(error)
        return
    if not os.access(file, os.W_OK) or not os.access(file.parent, os.W_OK | os.X_OK):
        yield "warning", f"{file} cannot be written by you; the service has to run as somebody who may"
    with service.engine.connect() as connection:
        service.known = [one for one in recipients.all_recipients(connection) if one.disabled is None]
        last = transfers.newest(connection, 1)
        failing = {hook.url: count for hook, count in _failing(connection, service.now - _LATELY)}
    if last and last[0].updated > service.now + _CLOCKS_DIFFER:
        moment = _shown(last[0].updated)
        yield "warning", f"the history's newest line is of {moment}, which is yet to come; set this machine's clock"
    for url, count in failing.items():
        yield "warning", f"the webhook {url} did not take {count} deliveries this week; see 'invio webhooks deliveries'"
    yield "ok", f"{file}: {size_text(file.stat().st_size)}, {len(service.known)} recipients who may sign in"


def _new_records(folder: Path) -> _Looked:
    nearest = next(path for path in (folder, *folder.parents) if path.exists())
    if not nearest.is_dir() or not os.access(nearest, os.W_OK | os.X_OK):
        yield "fault", f"{folder} cannot be made: {nearest} is not a folder that you may write to; correct 'data'"
    else:
        yield "ok", f"{folder} holds no records yet; the first start makes them"


def _failing(connection: sa.Connection, since: float) -> Iterator[tuple[webhooks.Webhook, int]]:
    given_up = webhooks.given_up(connection, since)
    return ((hook, given_up[hook.id]) for hook in webhooks.all_of(connection) if hook.id in given_up)


def _tokens(service: _Service) -> _Looked:
    """Tokens that end soon: whoever has one finds out when the download of the night fails."""
    if service.engine is None:
        return
    with service.engine.connect() as connection:
        tokens = [token for one in service.known for token in recipients.tokens_of(connection, one.id)]
    soon = service.now + _EXPIRES_SOON
    ending = sorted(
        (token.expires, f"{token.id} of {token.recipient} ({token.label or 'no label'})")
        for token in tokens
        if token.expires is not None and service.now < token.expires < soon
    )
    for moment, said in ending[:_NAMED]:
        yield "warning", f"the token {said} expires at {_shown(moment)}; make another: 'invio recipients token'"
    if len(ending) > _NAMED:
        yield "warning", f"{len(ending) - _NAMED} more tokens expire within two weeks"
    if not ending:
        yield "ok", "none expires within two weeks"


def _disks(service: _Service) -> _Looked:
    settings = service.settings
    places = {"data": settings.database.parent}
    for name, store in settings.stores.items():
        if isinstance(store, ManagedSettings) or (isinstance(store, DirectorySettings) and store.writable):
            places[f"store {name}"] = settings.path(store.root)
    seen: dict[int, list[str]] = {}
    for what, path in places.items():
        nearest = next(one for one in (path, *path.parents) if one.exists())
        seen.setdefault(nearest.stat().st_dev, [str(nearest)]).append(what)
    for on, *held in seen.values():
        yield _disk(on, f"the disk of {', '.join(held)} ({on})")


def _disk(path: str, what: str) -> tuple[Grade, str]:
    usage, files = shutil.disk_usage(path), os.statvfs(path)
    free = f"{size_text(usage.free)} of {size_text(usage.total)} are free"
    if usage.free < _NO_SPACE:
        return "fault", f"{what} is full: {free}; what is not recorded is not delivered. Make room"
    if files.f_files and files.f_favail < files.f_files * _FEW_FILES:
        return "warning", f"{what} has room for {files.f_favail} more files only; remove some, or use another disk"
    if usage.free < _LITTLE_SPACE[0] or usage.free < usage.total * _LITTLE_SPACE[1]:
        return "warning", f"{what} is nearly full: {free}; make room"
    return "ok", f"{what}: {free}"


def _address(service: _Service) -> _Looked:
    """Whether tokens and links travel in the clear, and who listens at the service's address."""
    given = service.settings.service
    if given.public_url is not None:
        if given.public_url.startswith("http://") and not _is_here(given.public_url.partition("//")[2]):
            said = "whoever is on the way reads tokens and links; serve it by TLS, and give that address"
            yield "warning", f"'public_url' is {given.public_url}: {said}"
    elif not _is_here(given.host):
        said = "whoever is on the way reads tokens and links; put a server with TLS before it"
        yield (
            "warning",
            f"the service listens on {given.host} without TLS: {said}, and give its address as 'public_url'",
        )
    yield _listening(given.host, given.port)


def _is_here(host: str) -> bool:
    """Whether a host is this machine, or what nobody else reaches."""
    name = host.rpartition("@")[2].partition("/")[0]
    name = name[1:].partition("]")[0] if name.startswith("[") else name
    name = name if name.count(":") > 1 else name.partition(":")[0]
    try:
        return ipaddress.ip_address(name).is_loopback
    except ValueError:
        return name == "localhost"


def _listening(host: str, port: int) -> tuple[Grade, str]:
    where = f"{host} port {port}"
    if not port:
        return "ok", "any free port is taken at the start"
    near = {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(host, host)
    try:
        connection = http.client.HTTPConnection(near, port, timeout=_SERVICE_WITHIN)
        connection.request("GET", "/readyz")
        state = json.loads(connection.getresponse().read(100_000))
        connection.close()
        status, faults, hints = state["status"], dict(state.get("faults") or {}), dict(state.get("hints") or {})
    except (ConnectionRefusedError, socket.gaierror):
        return "ok", f"nothing runs on {where}, which is free for the service"
    except (OSError, http.client.HTTPException, ValueError, KeyError, TypeError) as error:
        return (
            "warning",
            f"{where} is in use, and what runs there is no such service ({error}); stop it, or choose another",
        )
    said = f"a service runs on {where}: {status}"
    if not faults and not hints:
        return "ok", said
    named = "; ".join(f"{part}: {fault}" for part, fault in (faults | hints).items())
    return ("fault" if faults else "warning"), f"{said} ({named})"


def _descriptors(_: _Service) -> _Looked:
    most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    if most != resource.RLIM_INFINITY and most < _FEW_DESCRIPTORS:
        said = "each download takes two or three; raise the limit of open files (LimitNOFILE, ulimit -n)"
        yield "warning", f"at most {most} files and connections can be open: {said}"
    else:
        yield "ok", "as many files and connections as are needed can be open"


def _store(service: _Service, name: str) -> tuple[Grade, str]:
    """Opens a store and asks it for a file that is not there; it has a few seconds."""
    given = service.settings.stores[name]
    if isinstance(given, ManagedSettings):  # opening it would mark its folder
        return _folder(service.settings.path(given.root), makes=True)
    if isinstance(given, RemoteSettings) and given.cache_bytes:  # and this one would make its cache
        stores = {**service.settings.stores, name: given.model_copy(update={"cache_bytes": 0})}
        settings = service.settings.model_copy(update={"stores": stores})
    else:
        settings = service.settings

    def ask() -> str | None:
        store = open_store(settings, None, name)
        if store is None:
            return None
        service.stores[name] = store
        return fault_of(store)

    began = time.monotonic()
    try:
        fault = Pool("checking", 1, deadline=_STORE_WITHIN).call(ask)
    except DeadlinePassed:
        fault = f"it did not answer within {_STORE_WITHIN:g} seconds"
    except ConfigurationError as error:
        fault = str(error)
    if fault is not None:
        return "fault", fault
    if isinstance(given, DirectorySettings):
        return _folder(settings.path(given.root), makes=False, writes=given.writable)
    return "ok", f"answers within {max(1, round((time.monotonic() - began) * 1000))} ms"


def _folder(path: Path, *, makes: bool, writes: bool = True) -> tuple[Grade, str]:
    if not path.exists() and makes:
        nearest = next(one for one in path.parents if one.exists())
        if nearest.is_dir() and os.access(nearest, os.W_OK | os.X_OK):
            return "ok", f"{path} is made at the first start"
        return "fault", f"{path} is not there and cannot be made in {nearest}; correct 'root', or its rights"
    if not path.is_dir():
        return "fault", f"{path} is no folder; correct 'root'"
    if writes and not os.access(path, os.W_OK | os.X_OK):
        return "fault", f"{path} cannot be written to; correct its rights"
    if not os.access(path, os.R_OK | os.X_OK):
        return "fault", f"{path} cannot be read; correct its rights"
    return "ok", f"{path} can be {'written to' if writes else 'read'}"


def _rules(service: _Service) -> _Looked:
    """Last, because expectations are about files of the stores."""
    proving = Proving(service.settings, service.stores, {one.id: one for one in service.known})
    path = proving.rules_path
    try:
        rules = proving.read(path)
    except ConfigurationError as error:
        yield "fault", str(error)
        return
    if service.engine is None and service.settings.database.exists():
        yield "ok", f"{len(rules.rules)} rules; expectations are tried once the records can be read"
        return
    checked = check_expectations(rules, proving.groups_of, proving.facts_of)
    failed = [one for one in checked if not one.met]
    for one in failed:
        expected = one.expectation
        said = f"{expected.who} {expected.action} {expected.address} is not {expected.outcome}: {one.because}"
        yield "fault", f"{path}:{expected.line}: {said}"
    if service.engine is not None:
        yield from (("warning", f"{path}: {said}") for said in proving.doubts(rules))
        yield from _administrators(service, rules)
    if not failed:
        yield "ok", f"{len(rules.rules)} rules; {len(checked)} of {len(checked)} expectations are met"


def _administrators(service: _Service, rules: RuleSet) -> _Looked:
    if service.settings.identity is not None:  # it may know others
        return
    if not any(rules.administers(Caller(one.id, one.groups), service.now) for one in service.known):
        yield (
            "warning",
            "nobody who can sign in may administer the service; add somebody with 'invio recipients add --settings', "
            "in a group that the rules give 'administer'",
        )


_PARTS: dict[str, Callable[[_Service], _Looked]] = {
    "settings": _settings,
    "rights": _rights,
    "keys": _keys,
    "records": _records,
    "tokens": _tokens,
    "disks": _disks,
    "address": _address,
    "open files": _descriptors,
}
