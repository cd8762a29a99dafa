"""Schemas of people: who asks, recipients with their tokens, what was changed of them, and their quotas."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, Field, model_validator

from invio.core.moments import LONGEST_SPAN
from invio.service.asked import Asked, Listed
from invio.service.passwords import SHORTEST
from invio.service.schemas import Timestamp

GroupName = Annotated[str, Field(pattern=r"^[A-Za-z0-9._@-]{1,64}$")]


class SignIn(Asked):
    """For a session in a browser: a recipient's access token, or the recipient's id and password."""

    token: str | None = Field(None, min_length=1, max_length=500)
    recipient: str | None = Field(None, min_length=1, max_length=64)
    password: str | None = Field(None, min_length=1, max_length=500)

    @model_validator(mode="after")
    def _one_way(self) -> SignIn:
        if (self.token is None) == (self.password is None) or (self.recipient is None) != (self.password is None):
            raise ValueError("give a token, or a recipient and a password")
        return self


class PasswordAsk(Asked):
    """A password for the console; null takes it away. `current` is the one before it."""

    password: str | None = Field(min_length=SHORTEST, max_length=500)
    current: str | None = Field(None, max_length=500, description="what whoever does not administer has to give")


class Me(BaseModel):
    """Who is asking; `recipient` is null for somebody who did not sign in."""

    recipient: str | None
    groups: list[str]
    administers: bool = Field(description="whether what concerns the whole service may be seen and changed")


class RecipientAsk(Asked):
    """What a recipient is to be called, and which groups it is in."""

    name: str | None = Field(None, min_length=1, max_length=200, description="its id, when not given")
    groups: Listed[GroupName] = Field(default_factory=list)


class RecipientChange(Asked):
    """What changes of a recipient: the name, and single groups. What is not named stays."""

    name: str | None = Field(None, min_length=1, max_length=200)
    add_groups: Listed[GroupName] = Field(default_factory=list)
    remove_groups: Listed[GroupName] = Field(default_factory=list)


class TokenAsk(Asked):
    """What a token is for, and for how many seconds it holds; without an end when not given."""

    label: str = Field("", max_length=200)
    seconds: int | None = Field(None, ge=1, le=LONGEST_SPAN)


class TokenShape(BaseModel):
    """A token by its id. `token` itself is told once, when it is made."""

    id: str
    label: str
    created: Timestamp
    expires: Timestamp | None
    used: Timestamp | None = Field(description="last, to the minute")
    token: str | None = None


class RecipientShape(BaseModel):
    """Somebody who obtains files. `disabled` since when, if so."""

    id: str
    name: str
    groups: list[str]
    disabled: Timestamp | None
    tokens: list[TokenShape]


class RecipientList(BaseModel):
    """Everybody known here."""

    recipients: list[RecipientShape]


class AuditShape(BaseModel):
    """Something that changed who may have what, or a sign-in; `about` says to what."""

    id: int
    at: Timestamp
    event: str
    by: str | None = Field(description="a recipient's id, `anyone`, or null for the service itself")
    network: str | None
    credential: str | None
    about: dict[str, Any]


class AuditList(BaseModel):
    """A page of the audit, the newest first; `next` goes into `before` for the next one."""

    lines: list[AuditShape]
    next: int | None


class QuotaGrant(Asked):
    """How many files and bytes more somebody may have under the quota of a rule."""

    rule: str = Field(max_length=200, description="the rule's name")
    files: int = Field(0, ge=0, le=10**9)
    bytes: int = Field(0, ge=0, le=10**15)

    @model_validator(mode="after")
    def _something(self) -> QuotaGrant:
        if not self.files and not self.bytes:
            raise ValueError("give files or bytes, 1 or more")
        return self


class QuotaShape(BaseModel):
    """A quota of one rule, and what of it is used; bytes that are on their way count as used, a grant as unused."""

    rule: str
    seconds: int
    files: int | None
    bytes: int | None
    used_files: int
    used_bytes: int
    frees: Timestamp | None = Field(description="when the first of what is used counts no more")


class QuotaList(BaseModel):
    """Quotas, and what of each is used."""

    quotas: list[QuotaShape]
