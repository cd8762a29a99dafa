"""Schemas: what the API takes and gives. The console's types are generated from these."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema

from invio.core.moments import LAST_MOMENT, LONGEST_SPAN
from invio.service.asked import Asked, Listed, first_fault

# Whole numbers of 15 digits at most: the link format's limit, which a database's integers hold as well.
Version = Annotated[int, Field(ge=1, le=10**15 - 1)]


def _unix_seconds(value: object) -> object:
    """A time as text becomes Unix seconds; without an offset it is UTC."""
    if not isinstance(value, str) or value.isdigit():
        return value
    try:
        moment = datetime.fromisoformat(value)
    except ValueError:
        raise ValueError(f"{value[:40]!r} is no time; expected Unix seconds, or as in 2026-12-24T18:00Z") from None
    return int((moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp())


# A time that is told: RFC 3339, UTC.
Timestamp = Annotated[str, WithJsonSchema({"type": "string", "format": "date-time"})]

_MOMENT_FORMS: list[dict[str, Any]] = [
    {"type": "integer", "minimum": 0, "maximum": LAST_MOMENT},
    {"type": "string", "format": "date-time"},
]
Moment = Annotated[
    int,
    Field(ge=0, le=LAST_MOMENT),
    BeforeValidator(_unix_seconds),
    WithJsonSchema({"anyOf": _MOMENT_FORMS, "description": "Unix seconds, or a time as in 2026-12-24T18:00Z"}),
]
Sort = Literal["name", "-name", "size", "-size", "modified", "-modified", "type", "-type"]
Action = Literal["list", "read", "bundle", "link", "put", "manage"]


FormFolders = Literal["keep", "flatten"]
FormFormat = Literal["zip", "tar"]


class Readiness(BaseModel):
    """Whether the service can deliver and record; what cannot, by name, and what somebody should look at."""

    status: Literal["ready", "not ready", "stopping"]
    faults: dict[str, str] = Field(default_factory=dict)
    hints: dict[str, str] = Field(default_factory=dict)


class FileShape(BaseModel):
    """A file or, with an address ending in `/`, a folder. `size` in bytes; null when it is made on demand."""

    address: str
    name: str
    folder: bool
    size: int | None = None
    modified: Timestamp | None = None
    media_type: str | None = None
    sha256: str | None = Field(None, description="in hexadecimal digits, once it is known")
    may: list[Action] = Field(default_factory=list, description="what the caller may do with it")
    version: int | None = Field(None, description="the newest, where the store keeps versions")
    renditions: list[str] = Field(default_factory=list, description="of an image, for `?rendition=`")
    download_name: str | None = Field(None, description="what it is saved under, where the address does not tell")
    description: str | None = Field(None, description="what it is about, as whoever put it says")
    about: dict[str, str] = Field(default_factory=dict, description="further facts that its store has of it")


class VersionShape(BaseModel):
    """One version of a file. `size` in bytes; `put` is when, RFC 3339, and `by` whom, for those who manage the file."""

    version: int
    current: bool
    size: int
    put: Timestamp
    by: str | None
    media_type: str
    description: str | None = Field(None, description="what it is about")
    sha256: str
    may: list[Action] = Field(description="what the caller may do with it")


class VersionList(BaseModel):
    """Versions of a file, the newest first; `next` goes into `before` for the next page."""

    address: str
    versions: list[VersionShape]
    next: int | None


class Listing(BaseModel):
    """A page of a listing; `next` goes into `after` for the next one."""

    files: list[FileShape]
    next: str | None
    puts: bool = Field(default=False, description="whether the caller may put files into this folder, or below it")


class BundleAsk(Asked):
    """A selection: addresses of files, and of folders (with a trailing `/`) for all that is in them."""

    files: Listed[str] = Field(max_length=100_000)
    versions: Annotated[dict[str, Version], first_fault(Version, 100_000)] = Field(
        default_factory=dict,
        max_length=100_000,
        description="which version of a file, by address; of others the newest as it is now",
    )
    name: str | None = Field(None, max_length=200)
    format: FormFormat | None = Field(None, description="zip, unless the name ends in .tar")
    folders: FormFolders = Field("keep", description="keep: with their folders; flatten: all in one")
    sums: bool = Field(default=False, description="with an entry SHA256SUMS")
    on_problem: Literal["refuse", "leave-out"] = Field(
        "refuse", description="what becomes of files that are unknown or not allowed; those left out are listed"
    )
    rendition: str | None = Field(None, max_length=32, description="images are in it as this rendition")
    wait: bool = Field(default=True, description="false: answered before it is planned")


class LeftOutShape(BaseModel):
    """What was selected and is not in the archive; `reason` is a word of the reasons."""

    address: str
    reason: str


class PreparingShape(BaseModel):
    """How far the plan of an archive is: `files` that are in it, and bytes of contents `read` for it."""

    files: int
    read: int


class BundleShape(BaseModel):
    """An archive to be fetched from `/get/` + `address`. `size` in bytes; null, as `entries`, while it is planned."""

    id: str
    address: str
    url: str
    name: str
    size: int | None
    entries: int | None
    expires: Timestamp
    left_out: list[LeftOutShape]
    preparing: PreparingShape | None


class BundleEntry(BaseModel):
    """An entry of an archive; `size` of its content there, and where that `ends` in the archive, in bytes.

    `address` is null for what the archive itself adds.
    """

    address: str | None
    version: int | None
    size: int
    ends: int


class BundleEntries(BaseModel):
    """`next` is what to give as `after` for more; null at the end."""

    entries: list[BundleEntry]
    next: int | None


class LinkAsk(Asked):
    """A sealed link to be made; the names are those of the link format. Times in Unix seconds."""

    model_config = ConfigDict(populate_by_name=True)
    address: str
    within: str | None = Field(None, alias="in", description="open this whole folder, too")
    version: Version | None = None
    rendition: str | None = Field(None, max_length=32, description="this one of the image, not the image itself")
    disposition: Literal["attachment", "inline"] | None = Field(None, alias="as")
    name: str | None = None
    id: str | None = None
    to: str | None = None
    only: Listed[str] = Field(default_factory=list, max_length=32)
    until: Moment | None = None
    seconds: int | None = Field(None, ge=1, le=LONGEST_SPAN, description="instead of until: from now on")
    after: Moment | None = None
    who: str | None = None
    net: Listed[str] = Field(default_factory=list, max_length=32)
    agent: str | None = None
    uses: Version | None = None
    rate: Version | None = Field(None, description="bytes a second")
    via: str | None = None
    tag: str | None = None


class LinkShape(BaseModel):
    """A sealed link. `target` is its path and query; `until` in Unix seconds, null without an end."""

    url: str
    target: str
    address: str
    key: str
    id: str | None
    until: int | None


class ReasonShape(BaseModel):
    """What one rule said, or the first thing that kept it from speaking."""

    rule: str
    line: int
    effect: Literal["allow", "deny"]
    spoke: bool
    because: str


class DecisionShape(BaseModel):
    """The decision on one question; without a rule that allows, the answer is no."""

    recipient: str | None
    groups: list[str]
    action: Action
    address: str
    allowed: bool
    reasons: list[ReasonShape]


class TransferShape(BaseModel):
    """A transfer. `bytes` counts those of the content that have arrived, each once; `rate` in bytes a second."""

    id: str
    address: str
    version: int | None = Field(description="of a file that is kept in versions")
    rendition: str | None = Field(description="which one of the image, or images; null for the files themselves")
    recipient: str | None
    made_for: str | None = Field(description="whom the link says that it was made for")
    link: str | None
    via: str | None
    tag: str | None
    state: Literal["running", "complete", "partial", "broken-off", "handed-off"]
    reason: str | None
    bytes: int
    size: int | None
    percent: int | None = Field(description="rounded down: 100 means all")
    estimated_size: int | None = Field(
        description="of what is being made, about; `percent` and `seconds_left` are by it then"
    )
    rate: int | None
    seconds_left: float | None
    requests: int
    started: Timestamp
    updated: Timestamp
    entries: int | None = Field(description="of an archive that is on its way; null for all else")
    entries_done: int | None
    entry: str | None = Field(description="the file that is next")


class TransferList(BaseModel):
    """Transfers from the newest on; `next` goes into `before` for the next page."""

    transfers: list[TransferShape]
    next: str | None


class Problem(BaseModel):
    """Problem details (RFC 9457). `reason` is a word that programs can go by."""

    type: str
    title: str
    status: int
    detail: str
    reason: str
    names: list[str] | None = None
    text: str | None = None
    link: str | None = None
    contact: str | None = None
    reasons: list[ReasonShape] | None = None


class RuleShape(BaseModel):
    """One rule, as the file has it."""

    name: str
    line: int
    effect: Literal["allow", "deny"]
    who: list[str]
    what: list[str]
    actions: list[str]


class RulesShape(BaseModel):
    """The rules in force, since when, and what is wrong with a file that came after them."""

    since: Timestamp
    fault: str | None
    rules: list[RuleShape]


class LinkFacts(BaseModel):
    """What is known of a link by its id; null where it was made elsewhere."""

    id: str
    state: Literal["holds", "expired", "used-up", "revoked"]
    address: str | None
    scope: str | None = Field(description="the folder that it opens")
    maker: str | None
    recipient: str | None = Field(description="whom it was made for")
    made: Timestamp | None
    until: Timestamp | None
    used: int
    uses: int | None
    revoked: Timestamp | None
    key: str | None
    last: Timestamp | None = Field(description="when it was used last")


class RevokedShape(BaseModel):
    """How many of a recipient's links were revoked now."""

    maker: str
    revoked: int


class LinkList(BaseModel):
    """Links, the newest first; `next` is what to go on before."""

    links: list[LinkFacts]
    next: float | None
