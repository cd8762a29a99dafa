"""Schemas of webhooks."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field, field_validator

from invio.core.toml import did_you_mean
from invio.core.webhooks import EVENTS
from invio.service.asked import Asked, Listed
from invio.service.schemas import Timestamp


class WebhookAsk(Asked):
    """An address that is to be told of events."""

    url: str = Field(
        pattern=r"^https?://[^/?#\s@]+[^\s#]*$", max_length=2000, examples=["https://app.example.org/hook"]
    )
    events: Annotated[Listed[str], Field(min_length=1, max_length=50, examples=[["transfer.complete"]])]
    label: str = Field("", max_length=200, description="what it is for")

    @field_validator("events")
    @classmethod
    def _known(cls, events: list[str]) -> list[str]:
        for event in events:
            if event not in EVENTS:
                hint = did_you_mean(event, EVENTS)
                raise ValueError(f"there is no event {event!r}{hint}; there are {', '.join(EVENTS)}")
        return list(dict.fromkeys(events))


class WebhookShape(BaseModel):
    """A webhook; `waiting` is how many deliveries are still to be made."""

    id: str
    url: str
    label: str
    events: list[str]
    made: Timestamp
    by: str | None
    waiting: int


class WebhookList(BaseModel):
    """All webhooks, the oldest first, and the events that there are."""

    webhooks: list[WebhookShape]
    events: dict[str, str]


class DeliveryShape(BaseModel):
    """One event that a webhook is told of; `said` is what came back of the newest attempt."""

    id: int
    event: str
    subject: str = Field(description="the id of the transfer, or of the line of the audit, that it is about")
    made: Timestamp
    state: Literal["waiting", "told", "given-up"]
    attempts: int
    said: str | None
    next: Timestamp | None = Field(description="when the next attempt is due")


class DeliveryList(BaseModel):
    """A webhook's deliveries, the newest first; `next` continues."""

    deliveries: list[DeliveryShape]
    next: int | None
