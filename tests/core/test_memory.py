"""Memories are bounded in number and in time."""

from __future__ import annotations

from invio.core.memory import ExpiringMemory, Memory


def test_a_full_memory_begins_anew_and_what_is_replaced_takes_no_room() -> None:
    memory: Memory[str, int] = Memory(2)
    assert (memory.keep("a", 1), memory.keep("b", 2), memory.keep("b", 3)) == (1, 2, 3)
    assert memory == {"a": 1, "b": 3}
    memory.keep("c", 4)
    assert memory == {"c": 4}


def test_what_has_aged_is_no_longer_known() -> None:
    memory: ExpiringMemory[str, int | None] = ExpiringMemory(2, seconds=5.0)
    assert memory.keep_at("a", None, now=10.0) is None
    assert memory.fresh("a", 14.9, "unknown") is None
    assert memory.fresh("a", 15.0, "unknown") == "unknown"
    assert memory.fresh("b", 10.0, "unknown") == "unknown"
    memory.keep_at("a", 7, now=15.0)
    assert memory.fresh("a", 15.0, None) == 7
