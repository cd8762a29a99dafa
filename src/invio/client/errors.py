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
        detail = problem.get("detail") or problem.get("title") or f"the service answered {status}"
        refused = cls(status, problem.get("reason", "unknown"), detail, problem.get("names", []), retry_after)
        refused.text, refused.link = problem.get("text") or "", problem.get("link") or ""
        refused.contact = problem.get("contact") or ""
        return refused


class FileChanged(ClientError):
    """The file on the service is no longer the one whose download was begun."""
