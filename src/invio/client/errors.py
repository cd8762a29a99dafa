"""What can go wrong for a client, as exceptions that say what to do."""

from __future__ import annotations

from typing import Any


class ClientError(Exception):
    """The base of this library's exceptions."""


class ServiceUnreachable(ClientError):
    """No service answered at the URL, or the connection was lost for good."""


class Refused(ClientError):
    """The service said no. `status` and `reason` (the reason's word) are for programs.

    `names` are the addresses that it is about; `retry_after` is in how many seconds to ask again, where the service
    says so. `text`, `link` and `contact` are the operator's own words for whoever is refused, or empty.
    """

    def __init__(
        self, status: int, reason: str, detail: str, names: list[str], retry_after: float | None = None
    ) -> None:
        super().__init__(detail)
        self.status = status
        self.reason = reason
        self.detail = detail
        self.names = names
        self.retry_after = retry_after
        self.text = self.link = self.contact = ""

    @classmethod
    def of(cls, status: int, problem: dict[str, Any], retry_after: float | None = None) -> Refused:
        """From a problem document, or what there is of one."""

        def said(name: str) -> str:
            value = problem.get(name)
            return value if isinstance(value, str) else ""

        names = problem.get("names")
        refused = cls(
            status,
            said("reason") or "unknown",
            said("detail") or said("title") or f"the service answered {status}",
            [name for name in names if isinstance(name, str)] if isinstance(names, list) else [],
            retry_after,
        )
        refused.text, refused.link, refused.contact = said("text"), said("link"), said("contact")
        return refused


class FileChanged(ClientError):
    """The file on the service is no longer the one whose download was begun."""
