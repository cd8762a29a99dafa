"""Tries whether the tests notice small alterations of the code: each is made in a copy, and its tests are run.

Run by hand, for it takes long: `.venv/bin/python tools/alterations.py [--count 26] [--only core/http/ranges.py] …`.
What is altered is drawn from all places where an operator, a number, a condition, a call or a returned value
stands, always the same ones for one seed. What no test notices is printed with its line: a test is missing, or nothing
depends on it, which a reader has to tell. The exit status is 1 when fewer than 95 of 100 are noticed.
"""

from __future__ import annotations

import argparse
import ast
import contextlib
import importlib
import json
import multiprocessing
import os
import random
import select
import shutil
import signal
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
SOURCE = Path("src/invio")
ENOUGH = 0.95  # of the alterations that are tried
SECONDS = 120  # for the tests of one alteration; an endless loop is noticed, too
# Loaded once, before any alteration. Nothing of the project, nor what loads it.
BEFOREHAND = ("fastapi", "httpx", "hypothesis", "pydantic", "sqlalchemy.orm", "uvicorn", "uvloop", "alembic")

# Which tests look at which modules, the quick ones first.
TESTS = {
    "core/http/ranges.py": ["core/test_ranges.py", "core/test_replies.py"],
    "core/http/preconditions.py": ["core/test_preconditions.py", "core/test_replies.py"],
    "core/http/replies.py": ["core/test_replies.py", "core/test_archive.py"],
    "core/http/names.py": ["core/test_names.py"],
    "core/links/seals.py": ["core/test_links.py"],
    "core/links/terms.py": ["core/test_links.py"],
    "core/rules/decisions.py": [
        "core/test_rules.py",
        "core/test_asking.py",
        "core/test_conditions.py",
        "core/test_rule_proofs.py",
    ],
    "core/rules/conditions.py": ["core/test_conditions.py"],
    "core/rules/patterns.py": ["core/test_patterns.py", "core/test_rules.py"],
    "core/rules/quotas.py": ["core/test_quotas.py", "records/test_records.py"],
    "core/archive/plan.py": ["core/test_archive.py"],
    "core/archive/zip_layout.py": ["core/test_archive.py"],
    "core/progress.py": ["core/test_progress.py"],
    "core/networks.py": ["core/test_networks.py"],
    "core/reasons.py": ["core/test_reasons.py"],
    "records/journal.py": ["records/test_records.py", "records/test_journal.py", "delivery/test_admission.py"],
    "records/quotas.py": ["records/test_quotas.py", "records/test_records.py"],
    "delivery/archives/builder.py": ["delivery/test_building.py"],
    "delivery/archives/deflating.py": ["delivery/test_building.py"],
    "delivery/archives/known_contents.py": ["delivery/test_building.py"],
    "delivery/archives/crc_ahead.py": ["delivery/test_crc_ahead.py", "delivery/test_building.py"],
    "delivery/archives/selection.py": ["delivery/test_selection.py", "delivery/test_building.py"],
    "delivery/transfers/admission.py": ["delivery/test_admission.py", "delivery/test_transfer_machine.py"],
    "delivery/transfers/keys.py": ["delivery/test_transfer_keys.py", "delivery/test_admission.py"],
    "delivery/transfers/settlement.py": ["delivery/test_admission.py", "delivery/test_transfer_machine.py"],
    "delivery/transfers/live.py": [
        "delivery/test_live.py",
        "delivery/test_admission.py",
        "delivery/test_transfer_machine.py",
    ],
    "delivery/access/catalogue.py": ["delivery/test_catalogue.py", "delivery/test_building.py"],
    "delivery/sending/acknowledgement.py": ["delivery/test_acknowledgement.py", "delivery/test_sending.py"],
    "delivery/representation/made_once.py": ["delivery/test_made_once.py"],
    "delivery/representation/negotiation.py": ["delivery/test_negotiation.py"],
    "delivery/representation/codings.py": ["delivery/test_negotiation.py"],
    "delivery/representation/digests.py": ["delivery/test_negotiation.py"],
    "delivery/archives/plan.py": ["delivery/test_plan.py", "delivery/test_selection.py", "delivery/test_building.py"],
    "delivery/archives/checksums.py": ["delivery/test_ahead_of_archives.py"],
    "delivery/archives/crc_scan.py": ["delivery/test_ahead_of_archives.py"],
    "delivery/archives/background_deflate.py": ["delivery/test_ahead_of_archives.py", "delivery/test_deflate_cache.py"],
    "delivery/archives/syncing.py": ["delivery/test_deflate_cache.py"],
    "delivery/transfers/exhausted.py": ["delivery/test_limits.py"],
    "delivery/transfers/ending.py": ["delivery/test_limits.py"],
    "delivery/transfers/link_reuse.py": ["delivery/test_limits.py"],
    "delivery/transfers/refusal_log.py": ["delivery/test_limits.py"],
    "delivery/access/searching.py": ["delivery/test_searching.py"],
    "delivery/offload.py": ["service_parts/test_front.py"],
    "records/sign_ins.py": ["records/test_sign_ins.py"],
    "records/retention.py": ["records/test_sign_ins.py"],
    "service/behind.py": ["service_parts/test_front.py"],
    "service/external_checks.py": ["service_parts/test_external_checks.py"],
    "service/deciding.py": ["service_parts/test_deciding.py", "service_parts/test_external_checks.py"],
    "delivery/archives/planning_pools.py": ["delivery/test_planning_pools.py", "delivery/test_building.py"],
    "delivery/archives/planning_turns.py": ["delivery/test_planning_turns.py", "delivery/test_building.py"],
    "service/mounting.py": ["embedding/test_replies.py", "embedding/test_middleware.py"],
    "service/guard.py": ["service_parts/test_guard.py"],
    "service/app.py": ["service_parts/test_late_api.py", "service_parts/test_proving.py", "service/test_http.py"],
    "service/probes.py": ["service_parts/test_probes.py"],
    "service/routes.py": ["service_parts/test_routes.py", "service_parts/test_description.py"],
    "service/health.py": ["service_parts/test_proving.py"],
    "service/permissions.py": ["service_parts/test_proving.py"],
    "service/proving.py": ["service_parts/test_proving.py"],
    "stores/sources.py": ["stores/test_sources.py", "stores/test_directory.py", "delivery/test_plan.py"],
    "stores/directory.py": ["stores/test_directory.py", "delivery/test_building.py"],
    "stores/table.py": ["stores/test_table.py"],
    "stores/table_keys.py": ["stores/test_table.py"],
    "stores/managed.py": ["stores/test_managed.py"],
    "core/toml.py": ["core/test_toml.py", "core/test_rules_file.py"],
    "stores/arriving.py": ["stores/test_arriving.py", "service/test_putting.py"],
    "stores/urls.py": ["stores/test_urls.py"],
    "stores/blocking.py": ["stores/test_blocking.py", "stores/test_cached.py", "stores/test_custom.py"],
    "delivery/sending/pump.py": [
        "delivery/test_pump.py",
        "delivery/test_connection_machine.py",
        "delivery/test_sending.py",
    ],
    "workers/pool.py": ["workers/test_pool.py"],
    "producers/room.py": ["producers/test_spooling.py", "delivery/test_spools.py", "delivery/test_made_once.py"],
    "producers/spooling.py": ["producers/test_spooling.py", "delivery/test_spools.py", "delivery/test_made_once.py"],
    "client/fetching.py": ["client/test_answers.py", "client/test_client.py"],
    "client/partial.py": ["client/test_partial.py", "client/test_client.py"],
    "client/patience.py": ["client/test_patience.py"],
    "producers/csv_rows.py": ["producers/test_formats.py", "embedding/test_reply_arguments.py"],
    "delivery/replies/making.py": ["embedding/test_reply_arguments.py"],
    "delivery/replies/bundle.py": ["embedding/test_reply_arguments.py"],
    "delivery/replies/contents.py": ["embedding/test_reply_arguments.py"],
    "delivery/access/authentication.py": [
        "delivery/test_authentication.py",
        "service/test_recipients.py",
        "service/test_provider.py",
        "service/test_sessions.py",
    ],
    "service/provider.py": ["service_parts/test_foreign_answers.py", "service/test_provider.py"],
    "service/asked.py": ["service/test_asked.py"],
    "service/checking.py": ["service/test_checking.py"],
    "service/signing.py": ["service/test_receipts.py"],
    "records/serving_lock.py": ["records/test_serving_lock.py"],
    "service/long_bodies.py": ["service/test_long_bodies.py"],
    "service/putting.py": ["service/test_putting.py", "service/test_versions.py", "service/test_rights.py"],
    "delivery/sending/uvicorn/exchange.py": [
        "delivery/test_exchange.py",
        "delivery/test_connection_machine.py",
        "delivery/test_sending.py",
    ],
}

# What was read and found to make no difference that could be seen, with why. They are tried, and not counted.
EQUAL = {
    ("delivery/archives/known_contents.py", "time.monotonic() - self._saved <= _LONG"): "no moment is exactly that",
    ("service/checking.py", "transfers.newest(connection, 1)"): "the newest comes first",
    ("service/long_bodies.py", "more > 0"): "nothing more has room",
    ("service/putting.py", 'length = int(head.get(b"content-length") or -1)'): "less than nothing is no length",
    ("service/putting.py", "length >= 0 and arriving.size != length"): "of no bytes none arrive",
    ("service/putting.py", "FileFacts(address, 1, None, None, media_type))"): "any small size is smaller",
    ("records/journal.py", "self._giving_up.cancel()"): "it finds nothing to give up",
    ("records/journal.py", "self._in_worker and time.monotonic() < end"): "no moment is exactly that",
    ("records/journal.py", "transfers.go_on(connection, found.id, 0, "): "one that is found has a request already",
    ("records/journal.py", "self._since_checkpoint = 0"): "one line in twenty thousand",
    ("records/journal.py", "self._connection.close()"): "whatever nothing refers to is closed",
    ("records/journal.py", "self._tries = 0"): "one try more or less",
    ("delivery/transfers/admission.py", "end = time.monotonic() + _ADMITTED_WITHIN"): "the journal keeps their order",
    ("delivery/transfers/admission.py", "not live.durable and time.monotonic() < end"): "the journal keeps their order",
    ("records/journal.py", "self._waiting, self._scheduled = batch, True"): "one try more or less",
    ("records/journal.py", "not self._scheduled and self._lingering is None"): "one look more or less",
    ("delivery/sending/uvicorn/exchange.py", "keeps=True"): "whether lines are remembered changes none",
    ("delivery/sending/uvicorn/exchange.py", "keeps=status != 206"): "whether lines are remembered changes none",
    ("delivery/sending/uvicorn/exchange.py", "if sent < len(data):"): "the transport is given nothing",
    ("delivery/sending/uvicorn/exchange.py", "not self._direct and transport"): "others have a turn more",
    ("delivery/archives/plan.py", 'root, path, device, inode, size, modified = 0, b""'): "nothing of it is read",
    ("delivery/archives/background_deflate.py", "daemon=True"): "a stop waits for it",
    ("service/guard.py", 'message.get("more_body", False)'): "servers say it",
    ("stores/sources.py", "raise NotImplementedError"): "each kind has its own",
    ("delivery/transfers/settlement.py", "COMPLETE, None, 1"): "the statement says it by itself",
    ("delivery/transfers/settlement.py", "live.told >= KEPT or len(self._ended)"): "one line more of very many",
    ("producers/csv_rows.py", "self._buffer.tell() >= PIECE"): "a row more or less in a piece",
    ("producers/csv_rows.py", "not self._safe and self._has_no_number"): "the same is written once more",
    ("client/partial.py", "os.fsync(self._opened.fileno())"): "only a machine that dies in this moment knows",
    ("client/partial.py", "        file.close()"): "whatever nothing refers to is closed",
    ("core/progress.py", "ranges[added][1] - ranges[added][0]"): "all are looked at where one would do",
    ("workers/pool.py", "time.monotonic() >= end"): "no moment is exactly that",
    ("core/progress.py", "size > self._least"): "all are looked at where one would do",
    ("core/progress.py", "start > ranges[-1][1]"): "one that touches the last one is found by the search",
    ("core/progress.py", "bisect_left(ranges, (start, 0))"): "no range ends at its first byte",
    ("client/fetching.py", "len(read) > _PROBLEM"): "no more of it is parsed in either case",
    ("client/fetching.py", "begun=self._done > 0, progress="): "of one byte there is as much to resume as of none",
    ("delivery/access/authentication.py", "len(secret) <= 100"): "how long a name is kept changes no answer",
    ("client/partial.py", "follow_symlinks=False"): "what was locked is no link",
    ("stores/managed.py", "self._seen_at = -1"): "no change has that time",
    ("stores/managed.py", "called or secrets.token_hex(8)"): "how long a name is makes no difference",
    ("stores/managed.py", "os.fsync(file.fileno())"): "only a machine that dies in this moment knows",
    ("stores/managed.py", "replaces=False"): "no content has the name of another",
    ("stores/managed.py", "if size <= noted:"): "of no lines nothing is taken back",
    ("core/toml.py", "_last[0][0] is not document"): "the lines are found once more",
    ("core/toml.py", "len(text.splitlines()) or 1"): "an empty text has no fault",
    ("core/toml.py", "get_close_matches("): "the first is the best",
    ("core/toml.py", "for length in range("): "what stands further up is known with its line",
    ("stores/directory.py", "entry.stat(follow_symlinks=False)"): "links were told apart before",
    ("stores/directory.py", "entry.is_dir(follow_symlinks=False)"): "links were told apart before",
    ("stores/directory.py", "if self.descriptor >= 0:"): "no folder is the standard input",
    ("stores/directory.py", "return text.isascii() and"): "the thorough way says the same",
    ("delivery/sending/acknowledgement.py", "self._tick = 0"): "ticks are counted from anywhere",
    ("delivery/sending/acknowledgement.py", "self._sending.get(answer, -1)"): "any number below zero is none",
    ("delivery/sending/acknowledgement.py", "self._sending[answer] = -1"): "any number below zero is none",
    ("delivery/sending/acknowledgement.py", "timer.cancel()"): "nothing is left that its look could find",
    ("delivery/sending/acknowledgement.py", "self._full.poll(0)"): "it is asked when something is ready",
    ("delivery/transfers/live.py", "begun = row.coverage[0][1]"): "no entry ends with the first byte",
    ("delivery/transfers/live.py", "requests: int = 0"): "whoever makes one says how many",
    ("delivery/transfers/live.py", "now - self._looked > _LOOKED_FOR"): "no clock is that exact",
    ("delivery/archives/builder.py", "self._waits = False"): "a plan begins with what it is told",
    ("delivery/archives/builder.py", "time.monotonic() > self._deadline"): "no clock is that exact",
    ("delivery/archives/builder.py", "self._ticks % _LOOKED_EVERY"): "how often the time is looked at",
    ("delivery/archives/builder.py", "modified is not None and modified > newest"): "the newest is as new as itself",
    ("delivery/archives/builder.py", 'raise Refusal("changed", f"{facts.address}'): "its CRC says the same",
    ("records/quotas.py", "digest_size=11"): "how long a name is makes no difference",
    ("core/archive/plan.py", "self.size = 0"): "it is set at the end",
    ("core/archive/plan.py", "at[number] < stop and"): "what begins at the end is cut off",
    ("core/archive/zip_layout.py", "self._central.clear()"): "only frees memory",
    ("core/archive/zip_layout.py", "time.gmtime(modified or 0)"): "both are before 1980",
    ("core/links/terms.py", "reached = -1"): "any number below zero comes first",
    ("core/rules/conditions.py", "start < stop:"): "hours that begin as they end are refused",
    ("core/rules/conditions.py", "day = (day - 1) % 7"): "at that minute the rule does not hold, whatever the day",
    ("core/rules/patterns.py", "elif star >= 0:"): "a pattern begins with a store",
    ("core/http/ranges.py", "begin <= end and begin < size"): "the thorough way says the same",
    ("core/http/replies.py", "only = self._parts[0] if"): "the search says the same",
    ("core/links/seals.py", "characters = 0"): "an estimate, after which the query is measured",
    ("core/links/seals.py", "characters > _SURELY_FIT"): "an estimate, after which the query is measured",
    ("core/links/seals.py", "ROOT_ORDER.index(pair[0])"): "any number below zero comes first",
    ("core/links/seals.py", "len(said) > 1"): "one is sorted as it is",
    ("core/links/seals.py", "len(target) <= _KEPT_UP_TO"): "whether a link is cached changes no answer",
    ("core/links/seals.py", "-len(text) % 4"): "padding that is too long is ignored",
    ("core/rules/patterns.py", "star = -1"): "any number below zero is none",
    ("core/http/names.py", "len(text) > NAME_LIMIT"): "a name of just that length is cut to itself",
    (
        "core/rules/quotas.py",
        "(quota.files is not None and claim.files > quota.files)",
    ): "nor does the search",
    ("delivery/sending/acknowledgement.py", "self._sending.pop(answer, -1)"): "any number below zero is none",
    ("delivery/sending/acknowledgement.py", "descriptor >= 0 and"): "no connection is the standard input",
    ("client/fetching.py", "begun.size > 0, progress="): "of one byte there is as much to resume as of none",
    ("delivery/replies/contents.py", "length > source.size * WORTH"): "it is worth as much either way",
    ("delivery/archives/builder.py", "self._cold = 0  #"): "a plan begins with nothing",
    ("delivery/archives/selection.py", "return rules.sure_below and all("): "then each file is looked at",
    ("delivery/transfers/settlement.py", "live.requests == 1 and"): "the thorough way says the same",
    ("client/fetching.py", "bytes arrived where {size} were announced"): "the HTTP library has noticed before",
    ("delivery/access/authentication.py", "len(token) > _LONGEST_TOKEN"): "no token has just that length",
    ("records/journal.py", "len(self._waiting) < _KEPT_AT_MOST"): "one more or less of very many",
    ("delivery/access/authentication.py", "len(agent) <= 300"): "how long a name is kept changes no answer",
    ("service/provider.py", "len(token) > _LONGEST"): "no token has just that length",
    ("core/rules/quotas.py", "use.at > now - quota.period"): "what frees at this moment leaves room at this moment",
    ("delivery/archives/builder.py", "self.record.options.sums and not sha256"): "what is known is worked out again",
    ("delivery/archives/builder.py", "facts.size or 0"): "no content of a byte is worth deflating",
    ("delivery/archives/selection.py", "len(files) > 1"): "a folder holds no file twice",
    ("delivery/transfers/admission.py", "bool(claims) and any("): "the records are asked, and say the same",
    (
        "delivery/transfers/admission.py",
        "(joins and asking.link is not None)",
    ): "what has ended is looked for once more",
    ("delivery/transfers/settlement.py", "size, [(0, size)]"): "the statement says it by itself",
    ("records/journal.py", "timer.cancel()"): "a stopped journal writes nothing when its timer comes",
    ("records/journal.py", "self._scheduled = True"): "a second flush finds nothing to write",
    ("records/journal.py", "self._since_checkpoint > _CHECKPOINT_LINES"): "one line in twenty thousand",
    ("records/quotas.py", "held.reserved > 0"): "nothing of nothing is taken",
    ("records/quotas.py", "len(uses) > _MOST"): "merged one use earlier",
    ("stores/directory.py", "entry.is_file(follow_symlinks=False)"): "links were told apart before",
    ("stores/managed.py", "os.fsync(root)"): "only a machine that dies in this moment knows",
    ("stores/directory.py", "self.descriptor = -1"): "any number below zero is none",
    ("stores/managed.py", "file.flush()"): "only a machine that dies in this moment knows",
    ("stores/managed.py", "os.fsync(descriptor)"): "only a machine that dies in this moment knows",
}

_COMPARISONS: dict[type[ast.cmpop], str] = {
    ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">", ast.Eq: "!=", ast.NotEq: "==",
    ast.Is: "is not", ast.IsNot: "is", ast.In: "not in", ast.NotIn: "in",
}  # fmt: skip
_OPERATORS: dict[type[ast.operator], type[ast.operator]] = {ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.FloorDiv}


@dataclass(frozen=True)
class Alteration:
    """One place, and what stands there instead."""

    module: str
    line: int
    before: str
    after: str
    start: int
    stop: int

    def is_equal(self, text: bytes) -> bool:
        """Whether it is in a line that EQUAL names."""
        begin = text.rfind(b"\n", 0, self.start) + 1
        end = text.find(b"\n", self.stop)
        line = text[begin : end if end >= 0 else len(text)].decode()
        return any(self.module == module and there in line for module, there in EQUAL)

    def applied(self, text: bytes) -> bytes:
        """The text with this alteration."""
        return text[: self.start] + self.after.encode() + text[self.stop :]


class _Places(ast.NodeVisitor):
    """Goes through a module and collects what may be altered; annotations, messages and logging are left alone."""

    def __init__(self, module: str, text: bytes) -> None:
        self.module, self.text, self.found = module, text, list[Alteration]()
        self._lines = [0]
        for line in text.splitlines(keepends=True):
            self._lines.append(self._lines[-1] + len(line))

    def _add(self, node: ast.expr | ast.stmt, after: str) -> None:
        assert node.end_lineno is not None
        assert node.end_col_offset is not None
        start = self._lines[node.lineno - 1] + node.col_offset
        stop = self._lines[node.end_lineno - 1] + node.end_col_offset
        before = self.text[start:stop].decode()
        self.found.append(Alteration(self.module, node.lineno, before, after, start, stop))

    def _said(self, node: ast.expr) -> str:
        return ast.get_source_segment(self.text.decode(), node) or ""

    def visit_FunctionDef(self, node: ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef) -> None:
        for statement in node.body:  # neither decorators nor defaults
            self.visit(statement)

    visit_ClassDef = visit_FunctionDef
    visit_AsyncFunctionDef = visit_FunctionDef

    def visit_keyword(self, node: ast.keyword) -> None:
        """A folder that is there already, and rights on one that is made."""
        if node.arg not in ("exist_ok", "parents", "mode"):
            self.generic_visit(node)

    def visit_Call(self, node: ast.Call) -> None:
        """How a field of a dataclass is shown, and how large a pool or a memory is, are left alone."""
        if ast.unparse(node.func) not in ("field", "Pool", "Memory"):
            self.generic_visit(node)

    def visit_AnnAssign(self, node: ast.AnnAssign) -> None:
        if node.value is not None:
            self.visit(node.value)

    def visit_Assert(self, node: ast.Assert) -> None:
        """What is only said to the type checker is not altered."""

    def visit_JoinedStr(self, node: ast.JoinedStr) -> None:
        """Texts are for people."""

    def visit_Compare(self, node: ast.Compare) -> None:
        if len(node.ops) == 1:
            left, right = ast.unparse(node.left), ast.unparse(node.comparators[0])
            self._add(node, f"({left}) {_COMPARISONS[type(node.ops[0])]} ({right})")
        self.generic_visit(node)

    def visit_BoolOp(self, node: ast.BoolOp) -> None:
        word = " or " if isinstance(node.op, ast.And) else " and "
        self._add(node, "(" + word.join(f"({ast.unparse(one)})" for one in node.values) + ")")
        self.generic_visit(node)

    def visit_BinOp(self, node: ast.BinOp) -> None:
        other = _OPERATORS.get(type(node.op))
        if other is not None:
            self._add(node, f"({ast.unparse(ast.BinOp(node.left, other(), node.right))})")
        self.generic_visit(node)

    def visit_UnaryOp(self, node: ast.UnaryOp) -> None:
        if isinstance(node.op, ast.Not):
            self._add(node, f"bool({ast.unparse(node.operand)})")
        self.generic_visit(node)

    def visit_Constant(self, node: ast.Constant) -> None:
        if isinstance(node.value, bool):
            self._add(node, str(not node.value))
        elif isinstance(node.value, int) and not self._said(node).startswith("0o"):
            self._add(node, str(node.value + 1))

    def visit_Return(self, node: ast.Return) -> None:
        if node.value is not None and not isinstance(node.value, ast.Constant):
            self._add(node.value, "None")
        self.generic_visit(node)

    def visit_Raise(self, node: ast.Raise) -> None:
        self._add(node, "pass")

    def visit_Expr(self, node: ast.Expr) -> None:
        if isinstance(node.value, ast.Call) and not ast.unparse(node.value).startswith("log."):
            self._add(node, "pass")
            self.generic_visit(node)


def alterations(module: str, count: int, seed: str) -> list[Alteration]:
    """So many alterations of a module, always the same ones for one seed."""
    text = (ROOT / SOURCE / module).read_bytes()
    places = _Places(module, text)
    for statement in ast.parse(text).body:
        if isinstance(statement, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
            places.visit(statement)
    random.Random(f"{seed}:{module}").shuffle(places.found)
    return places.found[:count]


def is_noticed(tree: Path, alteration: Alteration) -> bool:
    """Whether a test fails with it. The tests run in a fork of this process, which has loaded all but the project."""
    file = tree / SOURCE / alteration.module
    text, times = file.read_bytes(), file.stat()
    file.write_bytes(alteration.applied(text))
    # Bytecode is known by size and time: none of an alteration may be taken for the original's or another's.
    os.utime(file, ns=(times.st_atime_ns, times.st_mtime_ns + (1 + alteration.start) * 10**9))
    try:
        child = os.fork()
        if child == 0:
            os._exit(_tested(tree, TESTS[alteration.module]))
        return _ended(child) != 0
    finally:
        file.write_bytes(text)
        os.utime(file, ns=(times.st_atime_ns, times.st_mtime_ns))


def _tested(tree: Path, tests: list[str]) -> int:
    """Runs tests in this process, which ends with them. Returns pytest's exit status."""
    os.setsid()
    sink = os.open(os.devnull, os.O_RDWR)
    for stream in (0, 1, 2):
        os.dup2(sink, stream)
    os.chdir(tree)
    os.environ["PYTHONPATH"] = f"{tree / 'src'}:{tree}"
    sys.path[:0] = [str(tree / "src"), str(tree)]
    # In a folder of its own: runs that go on beside it would remove each other's.
    options = ["-x", "-q", "-p", "no:xdist", "-p", "no:cacheprovider", "--basetemp", str(tree.parent / "made")]
    quick = _QuickFirst(tree.parent / "seconds.json")
    return pytest.main([*options, *(str(tree / "tests" / name) for name in tests)], plugins=[quick])


class _QuickFirst:
    """Has the quick tests of each file run first, once a whole run has told how long each takes."""

    def __init__(self, known: Path) -> None:
        self._known, self._took = known, dict[str, float]()

    def pytest_collection_modifyitems(self, items: list[pytest.Item]) -> None:
        if self._known.exists():
            took, files = json.loads(self._known.read_text()), list(dict.fromkeys(item.path for item in items))
            items.sort(key=lambda item: (files.index(item.path), took.get(item.nodeid, 0)))

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        self._took[report.nodeid] = self._took.get(report.nodeid, 0) + report.duration

    def pytest_sessionfinish(self) -> None:
        if not self._known.exists():
            self._known.write_text(json.dumps(self._took))


def _ended(child: int) -> int:
    """Waits for a child. Returns its exit status, or minus the signal that ended it; what lasts too long is killed."""
    with os.fdopen(os.pidfd_open(child)) as descriptor:
        select.select([descriptor], [], [], SECONDS)
    with contextlib.suppress(ProcessLookupError):
        os.killpg(child, signal.SIGKILL)  # and what it started
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


def tried(module: str, count: int, seed: str) -> list[tuple[Alteration, bool]]:
    """Each alteration of a module, and whether it was noticed. Raises RuntimeError: the tests fail without one."""
    with tempfile.TemporaryDirectory() as folder:
        tree = Path(folder) / "tree"
        for name in ("src", "tests", "pyproject.toml", "docs", "README.md"):
            source = ROOT / name
            (tree / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copytree(source, tree / name) if source.is_dir() else shutil.copy(source, tree / name)
        if is_noticed(tree, Alteration(module, 0, "", "", 0, 0)):
            raise RuntimeError(f"the tests of {module} fail as they are")
        return [(one, is_noticed(tree, one)) for one in alterations(module, count, seed)]


def main() -> int:
    said = argparse.ArgumentParser(description=__doc__)
    said.add_argument("--count", type=int, default=26, help="alterations of each module")
    said.add_argument("--only", action="append", choices=sorted(TESTS), help="this module; may be given several times")
    said.add_argument("--seed", default="invio")
    said.add_argument("--jobs", type=int, default=1, help="modules that are tried at once")
    given = said.parse_args()
    for name in BEFOREHAND:
        importlib.import_module(name)
    all_noticed = all_tried = 0
    with ProcessPoolExecutor(given.jobs, mp_context=multiprocessing.get_context("fork")) as pool:
        runs = {pool.submit(tried, one, given.count, given.seed): one for one in given.only or TESTS}
        for run in as_completed(runs):
            noticed, number = _told(runs[run], run.result())
            all_noticed, all_tried = all_noticed + noticed, all_tried + number
    print(f"{all_noticed} of {all_tried} noticed, {all_noticed / all_tried:.1%}")
    return 0 if all_noticed >= ENOUGH * all_tried else 1


def _told(module: str, outcomes: list[tuple[Alteration, bool]]) -> tuple[int, int]:
    """Prints what was not noticed. Returns how many were, and of how many: without those that make no difference."""
    text = (ROOT / SOURCE / module).read_bytes()
    noticed = equal = 0
    for alteration, seen in outcomes:
        is_equal = not seen and alteration.is_equal(text)
        noticed, equal = noticed + seen, equal + is_equal
        if not seen:
            mark = "  equal" if is_equal else ""
            print(f"{mark}  {module}:{alteration.line}: {alteration.before!r} → {alteration.after!r}")
    print(f"{module}: {noticed} of {len(outcomes) - equal} noticed", flush=True)
    return noticed, len(outcomes) - equal


if __name__ == "__main__":
    sys.exit(main())
