"""The part of the client that is about webhooks."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from typing import Any


class WebhookCalls(ABC):
    """The addresses that are notified of events, and their deliveries. For administrators; refusals are `Refused`."""

    @abstractmethod
    def _json(self, method: str, path: str, **asked: Any) -> dict[str, Any]: ...

    def webhooks(self) -> dict[str, Any]:
        """All `webhooks`, and the `events` that there are, each with what it means."""
        return self._json("GET", "/api/webhooks")

    def add_webhook(self, url: str, events: Sequence[str], label: str = "") -> dict[str, Any]:
        """Adds a webhook for `url`; returns its facts, with its `id`."""
        return self._json("POST", "/api/webhooks", json={"url": url, "events": list(events), "label": label})

    def remove_webhook(self, webhook: str) -> None:
        """Removes a webhook, and the deliveries that wait for it."""
        self._json("DELETE", f"/api/webhooks/{webhook}")

    def try_webhook(self, webhook: str) -> None:
        """Sends it the event `webhook.trial` within a second or two."""
        self._json("POST", f"/api/webhooks/{webhook}/trial")

    def deliveries(self, webhook: str) -> Iterator[dict[str, Any]]:
        """A webhook's deliveries, the newest first."""
        before: dict[str, int] = {}
        while True:
            page = self._json("GET", f"/api/webhooks/{webhook}/deliveries", params=before)
            yield from page["deliveries"]
            if page["next"] is None:
                return
            before = {"before": page["next"]}

    def repeat_delivery(self, webhook: str, delivery: int) -> None:
        """Sends a delivery again, now."""
        self._json("POST", f"/api/webhooks/{webhook}/deliveries/{delivery}")
