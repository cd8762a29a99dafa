"""How failed sign-ins slow down the next ones: by account, by network and by device. Pure; the records count.

The aims, and what each of them costs:
- Guessing one account's password is slow wherever the guesses come from: attempts count for the account.
- Guessing many accounts' passwords from one place is slow: attempts count for the network, an IPv6 one by its /64,
  which is what one household or machine is given (RFC 6177).
- A success forgives the account that it is of, and no other, and never the network.
- Nobody locks others out. A device that signed in to an account before is counted by itself, so that others'
  guesses do not slow its owner down; a network's wait is short; and an access token, which nobody guesses, is
  always looked at.
"""

from __future__ import annotations

from dataclasses import dataclass

from invio.core.networks import network_of

FORGOTTEN = 900.0  # seconds without an attempt after which a count begins anew


@dataclass(frozen=True, slots=True)
class Counter:
    """What attempts are counted by: `free` of them wait for nothing, later ones up to `longest` seconds."""

    key: str
    free: int
    longest: float


@dataclass(frozen=True, slots=True)
class Count:
    """Attempts that have not succeeded, and when the last of them was, Unix seconds."""

    attempts: int = 0
    last: float = 0.0


def password_counters(recipient: str, address: str | None, device: str | None) -> list[Counter]:
    """What an attempt to sign in with a password counts for; `device` names one that signed in before."""
    if device is not None:
        return [Counter(f"device:{device}", 5, 60.0)]
    return [Counter(f"account:{recipient}", 5, 60.0), Counter(f"network:{network_of(address)}", 20, 10.0)]


def token_counters(address: str | None) -> list[Counter]:
    """What a token that is none counts for."""
    return [Counter(f"tokens:{network_of(address)}", 5, 60.0)]


def wait_for(counter: Counter, count: Count, now: float) -> float:
    """How many seconds an attempt has to wait; 0 when it may be made now."""
    over = count.attempts - counter.free
    if over <= 0 or not 0 <= now - count.last < FORGOTTEN:
        return 0.0
    return max(0.0, count.last + min(counter.longest, 2.0**over) - now)
