"""Limits of a service: how fast, how many at once, and for how long a reader may take nothing."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass
from weakref import WeakValueDictionary

from invio.core.links.seals import SealedLink
from invio.core.rules.terms import Terms
from invio.core.throttle import Throttle
from invio.workers.shared import OwnCounts, Sharing


@dataclass(frozen=True, slots=True)
class Limits:
    """None: no limit. Rates in bytes a second, `idle` in seconds.

    `rate` is of the whole service, `recipient_rate` of all connections of one recipient, or of one
    network address where nobody signed in. `requests` is how many bodies are sent at once;
    `recipient_transfers` how many files one recipient obtains at once. All of them hold across the
    workers of one service; across services that share records, `recipient_transfers` alone does.
    """

    rate: int | None = None
    recipient_rate: int | None = None
    requests: int | None = None
    recipient_transfers: int | None = None
    idle: float = 60.0


@dataclass(frozen=True, slots=True)
class BundleLimits:
    """`entries` in files, `size` in bytes, `seconds` for planning; `spools` is how many made files are kept.

    `wait_for` is how many bytes of content are deflated, at most, before an archive begins.
    """

    entries: int = 200_000
    size: int = 1 << 40
    seconds: float = 600.0
    spools: int = 64
    wait_for: int = 64_000_000


class Throttles:
    """The speed limits in use; one that no connection holds is forgotten."""

    def __init__(self, limits: Limits, sharing: Sharing | None = None) -> None:
        """`sharing` has the clocks that worker processes share."""
        self._limits = limits
        self._sharing = sharing or OwnCounts()
        self._in_use: WeakValueDictionary[Hashable, Throttle] = WeakValueDictionary()
        self._whole = None if limits.rate is None else Throttle(limits.rate, self._sharing.clock("all"))

    def holding(self, who: str, link: SealedLink | None, terms: Terms) -> list[Throttle]:
        """The limits that hold for one answer.

        A link's own limits go by what its issuer sealed, so that narrowing it into many links gains
        nothing; whoever narrowed it adds theirs.
        """
        throttles = [] if self._whole is None else [self._whole]
        if self._limits.recipient_rate is not None:
            throttles.append(self._shared(("recipient", who), self._limits.recipient_rate))
        if terms.speed is not None:
            throttles.append(self._shared(("rules", who), terms.speed))
        if link is not None and link.summary.rate is not None:
            origin = (link.key, link.scope, link.root, who)
            throttles += [self._shared((origin, rate), rate) for rate in {*map(int, link.conditions_named("rate"))}]
        return throttles

    def _shared(self, key: Hashable, rate: int) -> Throttle:
        throttle = self._in_use.get((key, rate))
        if throttle is None:
            throttle = self._in_use[key, rate] = Throttle(rate, self._sharing.clock((key, rate)))
        return throttle
