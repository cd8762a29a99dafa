"""The refusal log: refused requests in the history, a bounded number a second, so that a flood fills no disk."""

from __future__ import annotations

import logging

from invio.core.files import Caller
from invio.core.links.seals import SealedLink
from invio.core.links.terms import ORDER
from invio.core.reasons import Refusal
from invio.records.journal import Journal
from invio.records.rows import new_refusal
from invio.records.statements import insert

log = logging.getLogger("invio.delivery")

# What the history tells of.
_TOLD = frozenset((*ORDER, "malformed", "unknown-key", "bad-seal", "sign-in", "not-allowed", "missing", "quota"))
_A_SECOND = 100
_ADDRESS = 1000  # characters of an address that somebody made up


class RefusedRequests:
    """Writes refused requests to the history; of too many in a second, only their number."""

    def __init__(self, journal: Journal) -> None:
        self._journal = journal
        self._left = _A_SECOND  # that may be written down within this second
        self._left_out = 0

    def note(self, caller: Caller, address: str, link: SealedLink | None, refusal: Refusal) -> None:
        """Queues one for writing; `link` is given when its seal is valid."""
        if refusal.reason.word not in _TOLD:
            return
        if not self._left:
            self._left_out += 1
            return
        self._left -= 1
        recipient = caller.recipient or (link.names_recipient if link else None)
        link_id, via = (link.says("id"), link.via) if link else (None, None)
        row = new_refusal(
            address[:_ADDRESS],
            caller.network,
            f"{refusal.reason.word}: {refusal.detail}",
            recipient=recipient,
            link_id=link_id,
            via=via and via[:200],
            credential=caller.credential,
            decided_by=refusal.decided_by,
            made_for=link.says("to") if link else None,
        )
        self._journal.note(lambda connection: insert(connection, [row]))

    def next_second(self) -> None:
        """To be called once a second."""
        self._left = _A_SECOND
        if self._left_out:
            log.warning("history.refusals-left-out", extra={"fields": {"count": self._left_out}})
            self._left_out = 0
