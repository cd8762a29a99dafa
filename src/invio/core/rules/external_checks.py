"""External checks: questions that a rule leaves to the developer's own application.

The rules stay pure: the service passes them a policy that answers. Without an answer, a rule with an external check
fails closed: one that allows does not apply, one that denies does.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Protocol


@dataclass(frozen=True, slots=True)
class ExternalCheck:
    """Whom a rule asks: the application at `url`, or the Python `function`, as `module:name`.

    `timeout` is for how many seconds an address may take to answer.
    """

    url: str | None = None
    function: str | None = None
    timeout: float = 2.0

    def __str__(self) -> str:
        return self.url or self.function or ""


@dataclass(frozen=True, slots=True)
class CheckRequest:
    """Whether the rule called `rule` applies.

    `recipient` is None for somebody who did not sign in; `network` is the address that the request came from.
    """

    rule: str
    recipient: str | None
    groups: frozenset[str]
    action: str
    address: str
    network: str | None


@dataclass(frozen=True, slots=True)
class CheckResult:
    """Whether the rule applies, for how many seconds that is good, and why, for those who manage."""

    applies: bool
    seconds: float = 0.0
    because: str = ""


class ExternalPolicy(Protocol):
    """Who answers. None: no answer could be had."""

    def answer(self, ask: ExternalCheck, question: CheckRequest) -> CheckResult | None:
        """Answers a question, by asking now where nothing is known. Gives None when there is no answer."""
        ...

    async def prefetch(self, questions: Iterable[tuple[ExternalCheck, CheckRequest]]) -> None:
        """Fetches answers where waiting is allowed, before `answer` is called where it is not."""
        ...


@dataclass(frozen=True, slots=True)
class FixedPolicy:
    """Always the same answer, without asking anybody: for proofs, and where nobody is there to be asked."""

    said: CheckResult | None = None

    def answer(self, ask: ExternalCheck, question: CheckRequest) -> CheckResult | None:  # noqa: ARG002
        """What it was made with, whatever is asked."""
        return self.said

    async def prefetch(self, questions: Iterable[tuple[ExternalCheck, CheckRequest]]) -> None:
        """Nobody is asked."""


NO_POLICY = FixedPolicy()
