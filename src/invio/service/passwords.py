"""Passwords for the console: kept as Argon2id hashes, and as long to refuse as to accept."""

from __future__ import annotations

from functools import cache
from typing import Any

# 19 MiB and two passes (RFC 9106 allows less memory for more passes; this is what small servers can spare).
_PASSES, _MEMORY = 2, 19 * 1024  # KiB
SHORTEST = 10  # characters


@cache
def _hasher() -> Any:
    """The library is loaded with the first password; a service without any does without it."""
    from argon2 import PasswordHasher

    return PasswordHasher(time_cost=_PASSES, memory_cost=_MEMORY, parallelism=1)


@cache
def _nobody() -> str:
    """A hash to check for an unknown recipient, so that the refusal takes as long."""
    return hashed_password("nobody's password")


def hashed_password(password: str) -> str:
    """What the records keep of a password."""
    kept: str = _hasher().hash(password)
    return kept


def is_password(kept: str | None, password: str) -> bool:
    """Whether it is the password that `kept` was made from; None: nobody's is."""
    from argon2.exceptions import Argon2Error, InvalidHashError

    try:
        _hasher().verify(kept or _nobody(), password)
    except (Argon2Error, InvalidHashError):
        return False
    return kept is not None
