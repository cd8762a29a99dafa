"""What is decided and checked without a server: rules, links, and a comparison of rules over a whole catalogue."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable

from invio.core.addresses import Address, parse_address
from invio.core.files import Caller, FileFacts
from invio.core.links.keys import new_keys
from invio.core.links.seals import check_link, kept_link, link_query, make_link, parse_link
from invio.core.links.terms import Asked
from invio.core.rules.file import parse_rules
from invio.core.rules.proofs import compare

_RULE = """
[[rule]]
name = "{name}"
effect = "allow"
who = ["{who}"]
what = ["{what}"]
actions = ["list", "read", "bundle"]
"""


def _median(work: Callable[[], object], count: int) -> float:
    """Seconds that one call takes."""
    took = []
    for _ in range(count):
        began = time.perf_counter()
        work()
        took.append(time.perf_counter() - began)
    return statistics.median(took)


def decision(rules: int, elsewhere: int = 0) -> float:
    """Seconds for a decision with so many rules for the store, and so many for others."""
    lines = [_RULE.format(name=f"r{n}", who=f"group:g{n % 20}", what=f"charts/area-{n}/**") for n in range(rules)]
    lines += [_RULE.format(name=f"o{n}", who="group:g1", what=f"store-{n}/**") for n in range(elsewhere)]
    rule_set = parse_rules("".join(lines))
    caller = Caller("somebody", frozenset({"g1", "g2", "g3"}))
    address = parse_address("charts/area-1/sheet/north.pdf")
    assert rule_set.allows(caller, "read", address)
    return _median(lambda: rule_set.allows(caller, "read", address), 5000)


def links(count: int = 2_000, rounds: int = 20) -> tuple[float, float]:
    """Links made, and links checked, each of them for the first time, a second: the best of some rounds.

    What makes a round slower than another is somebody else on the same core, and it is the code that is measured.
    """
    ring = new_keys()
    key = ring.keys[ring.current]
    path, until = "charts/approach/north-channel.pdf", str(int(time.time()) + 3600)
    address, asked = parse_address(path), Asked(time.time())
    making, checking = [], []
    for _ in range(rounds):
        began = time.perf_counter()
        made = [make_link(address, ring.current, key, [("to", f"r{n}")], [("until", until)]) for n in range(count)]
        making.append(count / (time.perf_counter() - began))
        targets = [f"{path}?{link_query(link)}" for link in made]
        kept_link.cache_clear()
        began = time.perf_counter()
        for target in targets:
            check_link(parse_link(target), ring.keys, asked)
        checking.append(count / (time.perf_counter() - began))
        time.sleep(0.1)
    return max(making), max(checking)


def comparison(files: int = 100_000, groups: int = 20) -> float:
    """Seconds to compare two sets of rules of which every file and every group is touched."""
    old = "".join(_RULE.format(name=f"r{n}", who=f"group:g{n}", what=f"charts/a{n}/**") for n in range(groups))
    new = old + _RULE.format(name="all", who="signed-in", what="charts/**")
    callers = [(f"group:g{n}", Caller(f"r{n}", frozenset({f"g{n}"}))) for n in range(groups)]
    facts = (FileFacts(Address("charts", f"a{n % 25}/f{n}.pdf"), n, None, None) for n in range(files))
    began = time.perf_counter()
    assert sum(1 for _ in compare(parse_rules(old), parse_rules(new), callers, facts, time.time())) > files
    return time.perf_counter() - began
