"""Admission and settlement: what is fast does as what is thorough does, whatever comes."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa
from hypothesis import given, settings
from hypothesis import strategies as st

from invio.core.addresses import parse_address
from invio.core.http.replies import Reply
from invio.core.links.seals import link_target, make_link, parse_link
from invio.core.reasons import Refusal
from invio.core.rules.quotas import Quota
from invio.delivery.sending.meter import Meter
from invio.delivery.transfers.keys import TransferKey
from invio.delivery.transfers.limits import Limits
from invio.delivery.transfers.live import LiveTransfer, RequestProgress
from invio.delivery.transfers.transfers import Transfers
from invio.records.database import open_database, write
from invio.records.journal import Journal
from invio.records.tables import links, quota_uses, transfers

FILES = Quota("three files", 3, None, 3600)
BYTES = Quota("some bytes", None, 450, 3600)
KEY = bytes(range(32))


@dataclass(frozen=True)
class Get:
    """A GET of a whole file: by whom, by which link, against which quotas, and how much of it arrives."""

    recipient: str | None
    link: tuple[tuple[tuple[str, str], ...], tuple[tuple[str, str], ...]] | None  # before and after its key
    quotas: tuple[Quota, ...]
    size: int
    arrives: int  # hundredths

    def key(self) -> TransferKey:
        link = None
        if self.link is not None:
            target = link_target(make_link(parse_address("files/a"), "k1", KEY, *self.link))
            path, _, query = target.removeprefix("/get/").partition("?")
            link = parse_link(f"{path}?{query}")
        principal = f"recipient:{self.recipient}" if self.recipient else "network:192.0.2.7"
        who = principal if link is None else f"{principal}|{link.mark}"
        quotas = dict.fromkeys(self.quotas, 1)
        return TransferKey(who, "files/a", self.recipient, "192.0.2.7", link, quotas, principal=principal)


REQUESTS = st.builds(
    Get,
    recipient=st.sampled_from(["ann", "bob", None]),
    link=st.sampled_from(
        [
            None,
            ((), ()),
            ((("id", "L1"),), ()),
            ((("id", "L2"),), (("uses", "2"),)),
            ((("to", "bob"),), (("tag", "t"),)),
        ]
    ),
    quotas=st.sampled_from([(), (FILES,), (BYTES,), (FILES, BYTES)]),
    size=st.sampled_from([100, 200]),
    arrives=st.sampled_from([0, 50, 100]),
)


@pytest.fixture(scope="module")
def engines(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[sa.Engine, sa.Engine]]:
    folder: Path = tmp_path_factory.mktemp("admission")
    both = open_database(folder / "one.sqlite"), open_database(folder / "other.sqlite")
    yield both
    for engine in both:
        engine.dispose()


def account(engine: sa.Engine) -> list[list[tuple[Any, ...]]]:
    """What the records hold, but for ids and times; of quotas the sums, for uses of one moment are merged."""
    uses = quota_uses.c
    kept = (
        sa.select(*[column for column in transfers.c if column.name not in ("id", "started", "updated")]),
        sa.select(links.c.id, links.c.used),
        sa.select(
            uses.quota, uses.who, sa.func.sum(uses.files), sa.func.sum(uses.taken), sa.func.sum(uses.reserved)
        ).group_by(uses.quota, uses.who),
    )
    with engine.connect() as connection:
        return [sorted(map(tuple, connection.execute(what)), key=repr) for what in kept]


async def delivered(engine: sa.Engine, requests: list[Get], limits: Limits, fast: bool) -> list[str]:
    """Admits and settles requests one after the other; what each came to."""
    journal = Journal(engine)
    transfers_here = Transfers(engine, journal, limits)
    outcomes = []
    for request in requests:
        key, reply = request.key(), Reply(200, [], [bytes(request.size)], request.size)
        meter = Meter(None)
        try:
            if fast:
                live, progress = await _admitted(transfers_here, key, reply, meter)
            else:
                live, progress = await transfers_here.admission.admit(
                    key, reply, meter=meter, etag="etag", size=request.size, earlier=None
                )
        except Refusal as refusal:
            # The moment at which more is available is another one for each of the two.
            outcomes.append(f"{refusal.reason.word}: {refusal.detail.partition('; more is available')[0]}")
            continue
        meter.counted = request.size * request.arrives // 100
        transfers_here.settlement.settle(live, progress, None if request.arrives == 100 else "the client went away")
        await transfers_here.recorded()
        outcomes.append("sent")
    await journal.stop()
    return outcomes


async def _admitted(here: Transfers, key: TransferKey, reply: Reply, meter: Meter) -> Any:
    done = asyncio.get_running_loop().create_future()

    def told(live: LiveTransfer, progress: RequestProgress, error: BaseException | None) -> None:
        if error is None:
            done.set_result((live, progress))
        else:
            done.set_exception(error)

    here.admission.admit_whole(key, reply, meter, "etag", told)
    return await done


@settings(max_examples=60, deadline=None)
@given(st.lists(REQUESTS, min_size=1, max_size=6), st.sampled_from([None, 1, 3]))
def test_a_whole_file_is_accounted_for_alike_by_the_fast_and_the_thorough_way(
    engines: tuple[sa.Engine, sa.Engine], requests: list[Get], at_once: int | None
) -> None:
    limits = Limits(recipient_transfers=at_once)
    outcomes = []
    for engine, fast in zip(engines, (True, False), strict=True):
        with write(engine).begin() as connection:
            for table in (transfers, links, quota_uses):
                connection.execute(sa.delete(table))
        outcomes.append(asyncio.run(delivered(engine, requests, limits, fast)))
    fast_account, thorough_account = map(account, engines)
    assert outcomes[0] == outcomes[1]
    assert fast_account == thorough_account
