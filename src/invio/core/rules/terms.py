"""Terms: what the rules that let somebody have a file say of how it is delivered."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from invio.core.http.caching import strictest
from invio.core.rules.quotas import Quota


@dataclass(frozen=True, slots=True)
class Terms:
    """How a file is delivered to a caller who may have it; None where no rule says.

    `speed` in bytes a second, shared by all connections of one recipient; `disposition` is
    `attachment` or `inline`; `cache` the value of Cache-Control. All of `quotas` hold. Of a link that
    somebody is let make, `link_default` and `link_longest` are for how many seconds it holds.
    """

    speed: int | None = None
    disposition: str | None = None
    cache: str | None = None
    quotas: tuple[Quota, ...] = ()
    link_default: int | None = None
    link_longest: int | None = None

    def __hash__(self) -> int:
        # Few distinct values exist; equality compares every field.
        return hash(self.cache)


NO_TERMS = Terms()


def strictest_terms(of_rules: Iterable[Terms]) -> Terms:
    """The combined terms of several rules: the strictest value of each kind."""
    spoke = [terms for terms in of_rules if terms is not NO_TERMS]
    if not spoke:
        return NO_TERMS
    dispositions = {terms.disposition for terms in spoke if terms.disposition}
    return Terms(
        speed=min((terms.speed for terms in spoke if terms.speed is not None), default=None),
        disposition="attachment" if "attachment" in dispositions else next(iter(dispositions), None),
        cache=strictest(terms.cache for terms in spoke if terms.cache is not None),
        quotas=tuple(dict.fromkeys(quota for terms in spoke for quota in terms.quotas)),
        link_default=min((terms.link_default for terms in spoke if terms.link_default is not None), default=None),
        link_longest=min((terms.link_longest for terms in spoke if terms.link_longest is not None), default=None),
    )
