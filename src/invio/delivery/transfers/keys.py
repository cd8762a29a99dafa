"""Transfer keys: who asks for what, and by which transfer of the records that is counted and joined."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import KW_ONLY, dataclass, field, replace

from invio.core.links.seals import SealedLink
from invio.core.rules.quotas import Claim, Quota
from invio.delivery.transfers.live import Key
from invio.records.rows import RUNNING, TransferRow, new_transfer_id


@dataclass(slots=True)
class TransferKey:
    """Who asks for what: what a transfer is recorded and joined by.

    `principal` is whose limits hold: a recipient or a network address. `who` is what requests of one transfer
    have in common: the principal and, by a link, that link.
    """

    who: str
    address: str
    recipient: str | None
    network: str | None
    link: SealedLink | None = None
    quotas: Mapping[Quota, int] = field(default_factory=dict)  # those that hold, and how many files it is to each
    _: KW_ONLY
    version: int | None = None
    rendition: str | None = None
    credential: str | None = None
    decided_by: str | None = None
    quota_owner: str | None = None  # whose quotas they are, where that is not the principal
    principal: str = ""

    @property
    def tag(self) -> str | None:
        """What a link calls the transfer, to follow its progress."""
        return self.link.summary.tag if self.link else None

    def joined_by(self, etag: str | None) -> Key:
        """What requests of one transfer of this content are joined by."""
        return self.who, self.address, etag, self.tag

    def counted(self) -> tuple[str | None, int | None]:
        """The id of the link, and how many downloads it allows; None where there is none."""
        if self.link is None:
            return None, None
        says = self.link.summary
        return says.id, says.uses

    def claims(self, length: int | None) -> list[Claim]:
        """What a request takes of the quotas that hold; of a content that is made, nobody knows the length."""
        owner = self.quota_owner or self.principal
        return [Claim(quota, files, length or 0, owner) for quota, files in self.quotas.items()]


def new_row(
    asking: TransferKey, etag: str | None, size: int | None, earlier: TransferRow | None, held_by: int | None
) -> TransferRow:
    """The row of a transfer that begins, or of an `earlier` one that goes on."""
    now = time.time()
    if earlier is not None:
        return replace(earlier, state=RUNNING, reason=None, updated=now)
    link_id, via, tag, made_for = _said_by(asking.link)
    return TransferRow(
        # Python makes a dictionary of more than fifteen named arguments: those without a default go by their place.
        new_transfer_id(now), asking.who, asking.recipient,
        link_id, via, tag,
        asking.network, asking.address, etag, size,
        started=now,
        updated=now,
        version=asking.version,
        rendition=asking.rendition,
        credential=asking.credential,
        decided_by=asking.decided_by,
        made_for=made_for,
        held_by=held_by,
    )  # fmt: skip


def _said_by(link: SealedLink | None) -> tuple[str | None, str | None, str | None, str | None]:
    """A link's id, the labels of those who passed it on, its tag, and for whom it was made."""
    if link is None:
        return None, None, None, None
    says = link.summary
    return says.id, says.via[:200] if says.via else None, says.tag, says.to
