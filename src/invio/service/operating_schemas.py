"""Schemas of what operators see and change: rules, keys, sessions, the history in sums, and how the service is."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from invio.service.asked import Asked
from invio.service.schemas import Action, RuleShape, Timestamp, TransferShape

Extent = Literal["all", "some", "none"]
LONGEST_RULES = 1_000_000  # characters of a rules file
RulesText = Annotated[str, Field(max_length=LONGEST_RULES)]


class LinkQuestion(Asked):
    """A sealed link, whole or from its path on."""

    link: str = Field(min_length=1, max_length=16_384)


class ConditionShape(BaseModel):
    """One thing that a link says, and whether it holds for whoever asks; null for what does not decide."""

    name: str
    value: str
    holds: bool | None


class LinkExplanation(BaseModel):
    """What a link opens and on which conditions, read by this service's keys, and why it would be refused now.

    `used`, `revoked` and `maker` are those of its id, where this service knows it; `maker` for administrators.
    """

    address: str
    scope: str | None = Field(description="the folder that it opens")
    key: str
    sealed: bool = Field(description="whether the seal is good: nobody has altered it since it was made")
    id: str | None
    conditions: list[ConditionShape]
    reason: str | None = Field(description="the first reason for which it is refused; null: it opens")
    detail: str
    used: int | None
    uses: int | None
    revoked: Timestamp | None
    maker: str | None


class AudienceLine(BaseModel):
    """Whether somebody may do something with a file, and which rule says so; null where none does."""

    who: str = Field(description="`anyone`, `group:NAME`, or `recipient:ID`")
    allowed: bool
    rule: str | None
    line: int | None


class AudienceList(BaseModel):
    """Who may do one thing with one file."""

    address: str
    action: Action
    audience: list[AudienceLine]


class AccessCell(BaseModel):
    """What somebody may do below one folder, by the actions: everything there, some of it, or nothing."""

    folder: str
    extents: dict[str, Extent]


class AccessRow(BaseModel):
    """One line of the matrix."""

    who: str = Field(description="`anyone`, `signed-in`, or `group:NAME`")
    cells: list[AccessCell]


class AccessMatrix(BaseModel):
    """Who may do what where. `more`: there are more folders than are shown."""

    folders: list[str]
    rows: list[AccessRow]
    more: bool


class RulesFile(BaseModel):
    """The rules file as it lies on the disk; `digest` is what a change of it names."""

    name: str
    text: str
    digest: str


class RulesTrialAsk(Asked):
    """Rules that are to be tried."""

    text: RulesText


class RulesPut(RulesTrialAsk):
    """Rules that are to be put in force in the place of the file of this digest."""

    replaces: str = Field(max_length=64)


class CheckedShape(BaseModel):
    """An expectation of the rules file, and whether the rules meet it."""

    line: int
    who: str
    action: str
    address: str
    expected: str
    met: bool
    because: str


class ExpectationList(BaseModel):
    """The expectations of the rules in force."""

    expectations: list[CheckedShape]


class ChangeShape(BaseModel):
    """An outcome that would be another, and the rule that makes it so."""

    who: str
    address: str
    action: str
    allowed: bool
    rule: str
    line: int
    terms: str


class RulesTrial(BaseModel):
    """What rules would do: `fault` says why they cannot be used, and then nothing was compared.

    `count` outcomes would change for `files` that were compared; `changes` are the first of them. `whole` is false
    where the time for it was over before all files were compared.
    """

    fault: str | None
    rules: list[RuleShape]
    doubts: list[str]
    expectations: list[CheckedShape]
    changes: list[ChangeShape]
    count: int
    files: int
    whole: bool
    silent: list[str] = Field(description="stores that did not answer")


class RulesInForce(BaseModel):
    """Rules that were put in force, and the name under which the file before them is kept."""

    since: Timestamp
    digest: str
    kept: str


class KeyShape(BaseModel):
    """A key by its id. `links` are those made here that still hold by it."""

    id: str
    current: bool
    links: int


class KeyList(BaseModel):
    """The keys in use."""

    keys: list[KeyShape]


class SessionShape(BaseModel):
    """A console session, and what it was opened by."""

    id: str
    created: Timestamp
    expires: Timestamp
    opened_by: str | None


class SessionList(BaseModel):
    """Sessions of one recipient, the newest first."""

    sessions: list[SessionShape]


class TransferFacts(TransferShape):
    """All that is known of a transfer; `coverage` are the bytes that have arrived, as pairs of start and stop.

    What was refused has a line in the history, and is told as well.
    """

    state: Literal["running", "complete", "partial", "broken-off", "handed-off", "refused"]  # type: ignore[assignment]
    network: str | None
    credential: str | None
    decided_by: str | None
    etag: str | None
    coverage: list[tuple[int, int]]


class TransferRequest(BaseModel):
    """A request of a transfer that has ended; `start`, `asked` and `arrived` in bytes of the content.

    `asked` is null where nobody knew how much there was; `reason` says why it was not sent whole.
    """

    started: str
    ended: str
    start: int
    asked: int | None
    arrived: int
    reason: str | None


class TransferRequests(BaseModel):
    """The requests of a transfer in the order in which they ended; the first 200 are kept."""

    requests: list[TransferRequest]


class PublicKey(BaseModel):
    """One public key, as a JWK (RFC 8037): `x` is the key, base64url; `kid` its thumbprint (RFC 7638)."""

    kty: str
    crv: str
    x: str
    kid: str
    use: str
    alg: str


class KeySet(BaseModel):
    """A JWK Set (RFC 7517), the newest key first."""

    keys: list[PublicKey]


class DayShape(BaseModel):
    """One day: what began on it."""

    day: str
    downloads: int
    bytes: int
    refused: int


class ShareShape(BaseModel):
    """How much was had of a file, or by a recipient; `name` is null for those who did not sign in."""

    name: str | None
    downloads: int
    bytes: int


class RefusalShape(BaseModel):
    """How often something was refused for one reason."""

    reason: str
    count: int


class HistorySummary(BaseModel):
    """The history in sums. `whole` is false where there were more lines than are summed up: it is the newest then."""

    lines: int
    whole: bool
    days: list[DayShape]
    files: list[ShareShape]
    recipients: list[ShareShape]
    refusals: list[RefusalShape]


class StoreState(BaseModel):
    """A store, and whether it answers; `seconds` is how long that took."""

    name: str
    kind: str
    fault: str | None
    seconds: float


class DiskState(BaseModel):
    """A disk on which something of the service's lies. Bytes."""

    what: list[str]
    free: int
    total: int


class QueueState(BaseModel):
    """Threads for one kind of work: calls that run, that wait, and how many may do either."""

    name: str
    running: int
    waiting: int
    room: int


class SlowRequest(BaseModel):
    """One of the requests whose answers took longest to begin, of the last hour."""

    method: str
    path: str
    status: int
    seconds: float
    at: Timestamp


class ServiceState(BaseModel):
    """How the service is. Queues and slow requests are those of the process that answers."""

    version: str
    python: str
    since: Timestamp
    rules_since: Timestamp | None
    processes: int
    requests: int = Field(description="deliveries under way, in all worker processes")
    records: int = Field(description="bytes of the records")
    faults: dict[str, str]
    hints: dict[str, str]
    stores: list[StoreState]
    disks: list[DiskState]
    queues: list[QueueState]
    slowest: list[SlowRequest]
