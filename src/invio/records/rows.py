"""Rows of the transfers' table, and what is said in them."""

from __future__ import annotations

import os
import random
import time
from collections.abc import Sequence
from dataclasses import dataclass
from operator import attrgetter

RUNNING = "running"
COMPLETE = "complete"
PARTIAL = "partial"
BROKEN_OFF = "broken-off"
HANDED_OFF = "handed-off"  # sent by a front server, which does not tell what arrived
REFUSED = "refused"  # of which nothing was sent; the reason says why
_PARTED = "; "
_NAMED = 5  # credentials, or networks, that a line tells of
_AND_MORE = "and more"
PRINCIPAL_ENDS = "|"  # neither a recipient's id nor a network address holds it


@dataclass(slots=True)
class TransferRow:
    """One row of the table; `size` and `covered` in bytes, times in Unix seconds.

    `requests` counts those that have been noted: the only one of a file that leaves in one write is at its end.

    `credential` is what told who was asking, `decided_by` what let them or did not, both in words. A
    transfer that went on by another credential, or from elsewhere, has them all, parted by `; `.

    `who` is what requests of one transfer have in common: a principal (`recipient:ID` or `network:ADDRESS`) and,
    by a link, `|` and the link's mark. `made_for` is whom a link says that it was made for.
    `rendition` is the name of the one that was sent in place of an image.

    Its fields are the table's columns, in their order.
    """

    id: str
    who: str
    recipient: str | None
    link_id: str | None
    via: str | None
    tag: str | None
    network: str | None
    address: str
    etag: str | None
    size: int | None
    state: str = RUNNING
    reason: str | None = None
    started: float = 0.0
    updated: float = 0.0
    requests: int = 1
    covered: int = 0
    coverage: Sequence[Sequence[int]] = ()
    version: int | None = None
    credential: str | None = None
    decided_by: str | None = None
    made_for: str | None = None
    held_by: int | None = None
    rendition: str | None = None

    def copy(self) -> TransferRow:
        """Another row that says the same, in a fifth of the time that `dataclasses.replace` takes."""
        return TransferRow(*_values(self))


_values = attrgetter(*TransferRow.__slots__)

# Tells apart the transfers of one millisecond; whoever may see a transfer is decided otherwise.
_CHANCE = random.Random(os.urandom(16))
# Workers are forked: each would give the same ids as the others.
os.register_at_fork(after_in_child=lambda: _CHANCE.seed(os.urandom(16)))


def new_transfer_id(now: float) -> str:
    """20 characters; ids of later transfers sort after those of earlier ones (to the millisecond)."""
    return (int(now * 1000) << 32 | _CHANCE.getrandbits(32)).to_bytes(10, "big").hex()


def principal_of(who: str) -> str:
    """Whose limits hold for a transfer."""
    return who.partition(PRINCIPAL_ENDS)[0]


def first_id(moment: float) -> str:
    """What the ids of a moment's transfers begin with."""
    return f"{int(moment * 1000):012x}"


def joined_to(known: str | None, more: str | None) -> str | None:
    """What is known and one thing more, if it is new; of very many, the first ones and that there were more."""
    if known is None or more is None:
        return known or more
    parts = known.split(_PARTED)
    if more in parts or parts[-1] == _AND_MORE:
        return known
    return _PARTED.join([*parts, more if len(parts) < _NAMED else _AND_MORE])


def new_refusal(
    address: str,
    network: str | None,
    reason: str,
    *,
    recipient: str | None = None,
    link_id: str | None = None,
    via: str | None = None,
    credential: str | None = None,
    decided_by: str | None = None,
    made_for: str | None = None,
) -> TransferRow:
    """The line of the history for a request that was refused."""
    now = time.time()
    return TransferRow(
        id=new_transfer_id(now),
        who="",
        recipient=recipient,
        link_id=link_id,
        via=via,
        tag=None,
        network=network,
        address=address,
        etag=None,
        size=None,
        state=REFUSED,
        reason=reason[:200],
        started=now,
        updated=now,
        credential=credential,
        decided_by=decided_by,
        made_for=made_for,
    )
