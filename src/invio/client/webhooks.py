"""The part of the client that is about webhooks."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from typing import Any


class WebhookCalls(ABC):
    """Which addresses are told of events, and what became of it. For administrators; refusals are `Refused`."""

    @abstractmethod
    def _json(self, method: str, path: str, **asked: Any) -> dict[str, Any]: ...

    def webhooks(self) -> dict[str, Any]:
        """All `webhooks`, and the `events` that there are, each with what it means."""
        return self._json("GET", "/api/webhooks")

    def add_webhook(self, url: str, events: Sequence[str], label: str = "") -> dict[str, Any]:
        """Has `url` be told of events from now on; gives what is known of it, its `id` too."""
        return self._json("POST", "/api/webhooks", json={"url": url, "events": list(events), "label": label})

    def remove_webhook(self, webhook: str) -> None:
        """Tells it nothing more; what waits for it is dropped."""
        self._json("DELETE", f"/api/webhooks/{webhook}")

    def try_webhook(self, webhook: str) -> None:
        """Sends it the event `webhook.trial` within a second or two."""
        self._json("POST", f"/api/webhooks/{webhook}/trial")

    def deliveries(self, webhook: str) -> Iterator[dict[str, Any]]:
        """What it was told of, or is to be, the newest first."""
        before: dict[str, int] = {}
        while True:
            page = self._json("GET", f"/api/webhooks/{webhook}/deliveries", params=before)
            yield from page["deliveries"]
            if page["next"] is None:
                return
            before = {"before": page["next"]}

    def repeat_delivery(self, webhook: str, delivery: int) -> None:
        """Tells it once more, at once."""
        self._json("POST", f"/api/webhooks/{webhook}/deliveries/{delivery}")
