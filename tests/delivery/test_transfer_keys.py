"""Transfer keys: what a transfer is counted by, joined by and recorded as."""

from __future__ import annotations

from dataclasses import replace

import pytest

from invio.core.addresses import parse_address
from invio.core.links.seals import SealedLink, make_link
from invio.core.rules.quotas import Claim, Quota
from invio.delivery.transfers.keys import TransferKey, new_row
from invio.records.rows import PARTIAL, RUNNING

FILES, BYTES = Quota("files", 3, None, 3600), Quota("bytes", None, 450, 3600)


def link(*conditions: tuple[str, str], **root: str) -> SealedLink:
    return make_link(parse_address("files/a"), "k1", bytes(32), root.items(), conditions)


def key(sealed: SealedLink | None = None, **more: object) -> TransferKey:
    return TransferKey("who", "files/a", "ann", "192.0.2.7", sealed, principal="recipient:ann", **more)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("sealed", "counted", "tag"),
    [
        (None, (None, None), None),
        (link(), (None, None), None),
        (link(("uses", "2"), ("tag", "t-1"), id="L1"), ("L1", 2), "t-1"),
        (link(id="L1"), ("L1", None), None),
    ],
)
def test_a_link_counts_by_its_id_and_joins_by_its_tag(
    sealed: SealedLink | None, counted: tuple[str | None, int | None], tag: str | None
) -> None:
    assert key(sealed).counted() == counted
    assert key(sealed).joined_by('"etag"') == ("who", "files/a", '"etag"', tag)


def test_quotas_are_claimed_by_whose_they_are() -> None:
    asking = key(quotas={FILES: 2, BYTES: 1})
    assert asking.claims(100) == [Claim(FILES, 2, 100, "recipient:ann"), Claim(BYTES, 1, 100, "recipient:ann")]
    assert replace(asking, quota_owner="recipient:maker").claims(None) == [
        Claim(FILES, 2, 0, "recipient:maker"), Claim(BYTES, 1, 0, "recipient:maker"),
    ]  # fmt: skip
    assert key().claims(100) == []


def test_a_row_says_by_whom_and_by_what_a_transfer_was_asked_for() -> None:
    sealed = link(("via", "x" * 199), ("via", "desk"), ("tag", "t-1"), id="L1", to="bob")
    asked = key(sealed, version=3, rendition="thumb", credential="token t", decided_by="seal: k1")
    row = new_row(asked, '"e"', 10, None, 7)
    assert row.rendition == "thumb"
    assert (row.who, row.address, row.recipient, row.network) == ("who", "files/a", "ann", "192.0.2.7")
    assert (row.link_id, row.via, row.tag, row.made_for) == ("L1", "x" * 199 + " ", "t-1", "bob")
    assert (row.etag, row.size, row.version, row.credential, row.decided_by) == ('"e"', 10, 3, "token t", "seal: k1")
    assert (row.state, row.held_by, row.covered, row.started) == (RUNNING, 7, 0, row.updated)
    plain = new_row(key(), None, None, None, None)
    assert (plain.link_id, plain.via, plain.tag, plain.made_for) == (None, None, None, None)
    # One that goes on is the earlier one, running again.
    earlier = replace(row, state=PARTIAL, reason="the client went away", covered=4)
    again = new_row(key(), None, None, earlier, None)
    assert (again.id, again.state, again.reason, again.covered) == (row.id, RUNNING, None, 4)
    assert again.updated >= row.updated == again.started
