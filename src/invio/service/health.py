"""Health: the parts of the service that do not work at present, by name, for `/readyz` and the log."""

from __future__ import annotations

import logging

log = logging.getLogger("invio.service")


class Health:
    """Faults by the part that has them; each is logged when it comes, when it changes, and when it has gone."""

    def __init__(self) -> None:
        self._faults: dict[str, str] = {}
        self._hints: dict[str, str] = {}

    @property
    def faults(self) -> dict[str, str]:
        """What keeps the service from delivering or recording."""
        return dict(self._faults)

    @property
    def hints(self) -> dict[str, str]:
        """What somebody should look at, though everything is delivered and recorded."""
        return dict(self._hints)

    def fails(self, part: str, error: BaseException | str, *, hint: bool = False) -> None:
        """A part does not work; `hint`: the service delivers and records all the same."""
        said = error if isinstance(error, str) else f"{type(error).__name__}: {error}"
        held = self._hints if hint else self._faults
        if held.get(part) != said:
            trace = error if isinstance(error, BaseException) else None
            log.error("part.fails", exc_info=trace, extra={"fields": {"part": part, "error": said}})
        held[part] = said

    def works(self, part: str) -> None:
        """A part works, again or still."""
        if self._faults.pop(part, None) is not None or self._hints.pop(part, None) is not None:
            log.info("part.works-again", extra={"fields": {"part": part}})
