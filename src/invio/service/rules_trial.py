"""Changing rules through the API: reading the file, testing other rules, and putting them in force."""

from __future__ import annotations

import hashlib
import os
import shutil
import time
from collections.abc import Iterator
from contextlib import suppress
from itertools import islice
from pathlib import Path

from invio.core.errors import ConfigurationError
from invio.core.files import Caller, FileFacts
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.core.rules.decisions import RuleSet
from invio.core.rules.file import parse_rules
from invio.core.rules.proofs import Checked, check, compare
from invio.delivery.sending.eager import in_pool
from invio.records.recipients import all_recipients
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts, require_administrator
from invio.service.external_checks import functions_of
from invio.service.operating_schemas import (
    ChangeShape,
    CheckedShape,
    ExpectationList,
    RulesFile,
    RulesInForce,
    RulesPut,
    RulesTrial,
    RulesTrialAsk,
)
from invio.service.proving import Proving
from invio.service.reloading import Watched, required
from invio.service.routes import Routes
from invio.service.rules import rule_shape

routes = Routes("rules")
_SHOWN = 500  # changes that are named
_SECONDS = 20.0  # for which files are compared


@routes.get("/api/rules/file", summary="The rules file as it is")
async def get_rules_file(caller: TheCaller, parts: TheParts) -> RulesFile:
    """The rules file as it is on the disk, with comments, whether in force or not. For administrators."""
    await require_administrator(parts, caller)
    path = required(parts.rules_file).path

    def work() -> RulesFile:
        text = _read(path)
        return RulesFile(name=path.name, text=text, digest=_digest(text))

    return await in_pool(parts.pools.files, work)


@routes.post("/api/rules/trial", summary="What other rules would change")
async def try_rules(asked: RulesTrialAsk, caller: TheCaller, parts: TheParts) -> RulesTrial:
    """Tests rules: checks their expectations, and compares them with the rules in force, file by file.

    Compared for anyone, every recipient, and a member of each group that either names. Nothing is put in force. For
    administrators.
    """
    await require_administrator(parts, caller)
    return await in_pool(parts.pools.proving, _tried, parts, asked.text)


@routes.put("/api/rules/file", summary="Put other rules in force")
async def put_rules_file(asked: RulesPut, caller: TheCaller, parts: TheParts) -> RulesInForce:
    """Puts rules in force, in other processes within two seconds; the previous file is kept.

    Refused if they cannot be used, if one of their expectations is not met, if they would take the right `administer`
    from the caller, or (412) if the file is no longer the one they replace. For administrators.
    """
    await require_administrator(parts, caller)
    watched = required(parts.rules_file)
    kept = await in_pool(parts.pools.proving, _put, parts, watched, caller, asked)
    watched.expire()
    await watched.keep(parts.decide_by)
    parts.audit("rules.put", caller, kept=kept)
    return RulesInForce(since=timestamp(watched.since), digest=_digest(asked.text), kept=kept)


def _read(path: Path) -> str:
    """The text of the rules file. Raises Refusal (`unavailable`)."""
    try:
        return path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise Refusal("unavailable", f"{path.name} cannot be read at present: {_why(error)}") from None


def _why(error: OSError | UnicodeDecodeError) -> str:
    return "it is not UTF-8 text" if isinstance(error, UnicodeDecodeError) else str(error.strerror)


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


def _parsed(parts: Parts, text: str) -> RuleSet:
    """Rules for the stores of this service. Raises ConfigurationError."""
    path = required(parts.rules_file).path
    rules = parse_rules(text, path.name, parts.settings.stores).under(clock=time.time)
    functions_of(rules, path)
    return rules


def _proving(parts: Parts) -> Proving:
    with parts.engine.connect() as connection:
        recipients = {one.id: one for one in all_recipients(connection)}
    return Proving(parts.settings, dict(parts.catalogue.stores), recipients)


def _tried(parts: Parts, text: str) -> RulesTrial:
    try:
        new = _parsed(parts, text)
    except ConfigurationError as error:
        return RulesTrial(
            fault=str(error), rules=[], doubts=[], expectations=[], changes=[], count=0, files=0, whole=True, silent=[]
        )
    proving, old = _proving(parts), required(parts.rules_file).value
    counted = _Counted(proving.files(), time.monotonic() + _SECONDS)
    changes = compare(old, new, proving.callers(old, new), counted, time.time())
    shown = [
        ChangeShape(
            who=one.who, address=str(one.address), action=one.action, allowed=one.allowed, rule=one.rule,
            line=one.line, terms=one.terms,
        )
        for one in islice(changes, _SHOWN)
    ]  # fmt: skip
    count = len(shown) + sum(1 for _ in changes)
    return RulesTrial(
        fault=None,
        rules=[rule_shape(rule) for rule in new.rules],
        doubts=proving.doubts(new),
        expectations=_checked_shapes(check(new, proving.groups_of, proving.facts_of)),
        changes=shown,
        count=count,
        files=counted.count,
        whole=counted.whole,
        silent=sorted(proving.silent),
    )


@routes.get("/api/rules/expectations", summary="Whether the rules do what is expected of them")
async def get_expectations(caller: TheCaller, parts: TheParts) -> ExpectationList:
    """The `[[expect]]` entries of the rules in force, and whether each is met. For administrators."""
    await require_administrator(parts, caller)
    return ExpectationList(expectations=await in_pool(parts.pools.proving, _expectations_of, parts))


def _expectations_of(parts: Parts) -> list[CheckedShape]:
    proving = _proving(parts)
    return _checked_shapes(check(required(parts.rules_file).value, proving.groups_of, proving.facts_of))


def _checked_shapes(checked: list[Checked]) -> list[CheckedShape]:
    """Expectations as they are told."""
    shapes = []
    for one in checked:
        expected = one.expectation
        shapes.append(
            CheckedShape(
                line=expected.line, who=expected.who, action=expected.action, address=str(expected.address),
                expected=expected.outcome, met=one.met, because=one.because,
            )
        )  # fmt: skip
    return shapes


class _Counted:
    """Files on their way to a comparison, and how many there were; `whole`: all of them, in time."""

    def __init__(self, files: Iterator[FileFacts], until: float) -> None:
        self._files, self._until = files, until
        self.count, self.whole = 0, True

    def __iter__(self) -> Iterator[FileFacts]:
        for facts in self._files:
            if time.monotonic() > self._until:
                self.whole = False
                return
            self.count += 1
            yield facts


def _put(parts: Parts, watched: Watched[RuleSet], caller: Caller, asked: RulesPut) -> str:
    """Writes the file; returns the name of the previous file's copy. Raises Refusal."""
    path = watched.path.resolve()
    if _digest(_read(path)) != asked.replaces:
        raise Refusal("precondition", f"{path.name} was changed meanwhile; look at it again, nothing was written")
    try:
        rules = _parsed(parts, asked.text)
    except ConfigurationError as error:
        raise Refusal("bad-request", f"these rules cannot be used: {error}") from None
    proving = _proving(parts)
    failed = [one for one in _checked_shapes(check(rules, proving.groups_of, proving.facts_of)) if not one.met]
    if failed:
        lines = ", ".join(str(one.line) for one in failed)
        said = f"{len(failed)} of their expectations are not met, in line {lines}; nothing was written"
        raise Refusal("bad-request", said)
    if not rules.administers(caller):
        said = "these rules would take the right 'administer' from you; nothing was written"
        raise Refusal("bad-request", said)
    try:
        return _written(path, asked.text)
    except OSError as error:
        raise Refusal("unavailable", f"{path.name} cannot be written: {error.strerror}") from None


def _written(path: Path, text: str) -> str:
    """Keeps a copy of the file and puts the new text in its place, whole or not at all. Raises OSError."""
    kept = path.with_name(f"{path.name}.before-{time.strftime('%Y%m%dT%H%M%SZ', time.gmtime())}-{os.urandom(2).hex()}")
    partial = path.with_name(path.name + ".new")
    shutil.copy2(path, kept)
    try:
        partial.unlink(missing_ok=True)
        descriptor = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL, path.stat().st_mode & 0o777)
        with os.fdopen(descriptor, "w", encoding="utf-8") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        os.replace(partial, path)
    except OSError:
        for left in (partial, kept):
            with suppress(OSError):
                left.unlink(missing_ok=True)
        raise
    return kept.name
