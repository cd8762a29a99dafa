"""When garbage is looked for."""

from __future__ import annotations

import gc
import subprocess
import sys

import pytest

from invio.workers.heap import keep_what_is_loaded, nothing_collected


@pytest.mark.parametrize("collects", [True, False])
def test_nothing_is_collected_meanwhile_and_then_it_is_as_before(collects: bool) -> None:
    before = gc.isenabled()
    (gc.enable if collects else gc.disable)()
    try:
        with nothing_collected():
            assert not gc.isenabled()
        assert gc.isenabled() is collects
    finally:
        (gc.enable if before else gc.disable)()


@pytest.mark.parametrize("spares", [False, True])
def test_what_is_loaded_later_is_spared_where_what_was_loaded_first_is(*, spares: bool) -> None:
    if spares:
        gc.freeze()
    try:
        loaded: list[object] = [[]]
        assert _is_looked_at(loaded)
        keep_what_is_loaded()
        assert _is_looked_at(loaded) is not spares
    finally:
        gc.unfreeze()


def _is_looked_at(one: object) -> bool:
    """Whether the collector would look at an object: those that are spared are not among its objects."""
    return any(other is one for other in gc.get_objects())


_HOLES = """
import sys
from invio.workers.heap import give_back_large_blocks

def resident():
    with open("/proc/self/statm") as file:
        return int(file.read().split()[1]) * 4096

if sys.argv[1] == "given back":
    give_back_large_blocks()
bytearray(30_000_000)  # from now on blocks as long as this are small to the C library
before = resident()
blocks = [(bytearray(2_000_000), bytearray(2000)) for _ in range(50)]
between = [small for _, small in blocks]
del blocks
print(resident() - before)
"""


def test_large_blocks_that_lie_between_others_are_given_back_when_they_are_freed() -> None:
    kept, given_back = (
        int(subprocess.run([sys.executable, "-c", _HOLES, how], check=True, capture_output=True).stdout)
        for how in ("kept", "given back")
    )
    assert kept > 50_000_000, "the C library does it by itself"
    assert given_back < 10_000_000
