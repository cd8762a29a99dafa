"""Settings: one TOML file. Every error names the file, the line, what is wrong and what was expected.

Paths in it are relative to the file's own folder.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, SecretStr, ValidationError, model_validator
from pydantic.fields import FieldInfo

from invio.core.errors import ConfigurationError
from invio.core.exclusions import read_exclusions
from invio.core.http.forwarded import read_networks
from invio.core.toml import Document, did_you_mean, parse_toml

# What an address may not have as a store, because it means something else.
RESERVED = ("bundles",)
UNIX = "unix"  # among networks: whoever connects by a Unix socket
_ORIGIN = re.compile(r"https?://[^/?#\s@*]+\Z")
_URL = r"^https?://[^/?#\s]+(/[^?#\s]*)?$"
_FIELD_NAME = r"^[!#$%&'*+.^_`|~0-9A-Za-z-]+$"
_LINK = r"^$|^(https?://|mailto:|tel:|/)"
_ALGORITHMS = ("RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA")
_STORE_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,31}\Z")


_MEDIA_TYPE = r"^[a-z0-9!#$&^_.+-]+/[a-z0-9!#$&^_.+-]+$"
_SPAN = re.compile(r"([0-9]+(?:\.[0-9]+)?)\s*(s|m|h|d)\Z")
_UNITS = {"s": 1, "m": 60, "h": 3600, "d": 86400}


def _seconds(value: object) -> object:
    """A span of time as text, as in `10m`, as seconds."""
    if not isinstance(value, str):
        return value
    found = _SPAN.match(value)
    if found is None:
        raise ValueError(f"{value!r} is no span of time; expected seconds, or as in '90s', '10m', '2h', '7d'")
    return float(found[1]) * _UNITS[found[2]]


class BadSettings(ConfigurationError):
    """The settings cannot be used; the message is `file:line: section.key: what is wrong`."""


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class ServiceSettings(_Strict):
    """Where the service listens, and where it keeps its own things."""

    host: str = "127.0.0.1"
    port: int = Field(8480, ge=0, le=65535)
    data: Path = Path("data")
    keys: Path = Path("keys.json")
    rules: Path = Path("rules.toml")
    public_url: str | None = Field(
        None,
        pattern=_URL,
        description="what links begin with",
        examples=["https://files.example.org"],
    )
    link_grace: int = Field(900, ge=0, description="seconds for which an expired link resumes what it began")
    digests: Literal["asked", "always"] = Field(
        "asked", description="whose SHA-256 is computed: what somebody asks for"
    )
    history_days: int | None = Field(None, ge=1, description="for which the history is kept; without it, for good")
    drain: float = Field(
        0.0, ge=0, le=600, description="seconds for which /readyz says no before a stop closes the listener"
    )
    shutdown: int = Field(5, ge=0, description="seconds that running transfers get when the service stops")
    contact: str = Field("", max_length=300, description="whom people may ask, on every page that refuses something")
    contact_link: str = Field("", pattern=_LINK, description="where that leads", examples=["mailto:desk@example.org"])


class BundleSettings(_Strict):
    """What one bundle may hold at most, and what is deflated for them."""

    entries: int = Field(200_000, ge=1)
    bytes: int = Field(1 << 40, ge=1)
    seconds: float = Field(600.0, gt=0, description="for planning one")
    wait_for: int = Field(64_000_000, ge=0, description="bytes that are deflated first, at most, before it begins")
    scan_every: int = Field(0, ge=0, description="seconds after which new files' CRCs are worked out; 0: never ahead")
    cache_bytes: int = Field(1 << 30, ge=0, description="of deflated contents that are kept; 0: nothing is deflated")
    origins: list[str] = Field(
        default_factory=list, description="which files' URLs may be of, as in https://images.example.org"
    )

    @model_validator(mode="after")
    def _origins(self) -> BundleSettings:
        for origin in self.origins:
            if not _ORIGIN.match(origin):
                raise ValueError(f"{origin!r} is no origin; expected one such as 'https://images.example.org'")
        return self


class MakingSettings(_Strict):
    """What may be made on demand, and how much of it is on the disk at once."""

    seconds: float = Field(600.0, gt=0, description="for making one content")
    bytes: int = Field(4 << 30, ge=1, description="of one content")
    disk_bytes: int = Field(16 << 30, ge=1, description="of all that is being made, or kept, in each process")


class RenditionSettings(_Strict):
    """An image derived from stored ones."""

    width: int = Field(ge=1, le=10_000, description="pixels")
    height: int = Field(ge=1, le=10_000, description="pixels")
    fit: Literal["cover", "contain", "exact"] = Field(
        "contain", description="fill the size and cut off the rest; fit into it; or be stretched to it"
    )
    format: Literal["jpeg", "png", "webp"] | None = Field(None, description="without it, the original's")
    quality: int = Field(80, ge=1, le=100, description="of JPEG and WebP")


class ImageSettings(_Strict):
    """What images renditions are made of, and how many are kept."""

    pixels: int = Field(100_000_000, ge=1, description="of an image, at most")
    bytes: int = Field(256 << 20, ge=1, description="of an image, at most")
    seconds: float = Field(20.0, gt=0, le=600, description="for making one")
    processes: int = Field(2, ge=1, le=32, description="that make them, of each process that serves")
    cache_bytes: int = Field(1 << 30, ge=1, description="of renditions that are kept")


class LimitSettings(_Strict):
    """How fast, how many at once, and how patiently; without a value there is no limit."""

    rate: int | None = Field(None, ge=1, description="bytes a second of each process")
    recipient_rate: int | None = Field(None, ge=1, description="bytes a second of one recipient, all connections")
    requests: int | None = Field(None, ge=1, description="bodies that each process sends at once")
    recipient_transfers: int | None = Field(None, ge=1, description="files that one recipient obtains at once")
    put_bytes: int | None = Field(None, ge=1, description="bytes of a file that is put")
    idle: float = Field(60.0, gt=0, description="seconds for which a reader may take nothing")
    head: float = Field(30.0, gt=0, description="seconds within which a request's head has to be there")
    body_bytes: int = Field(1 << 20, ge=1, description="bytes of a request's body, but of a selection or a file")
    selection_bytes: int = Field(8 << 20, ge=1, description="bytes of the body that holds a selection")
    network_connections: int | None = Field(None, ge=1, description="connections of one network at once")
    streams: int = Field(500, ge=1, description="event streams of each process at once")
    recipient_streams: int = Field(20, ge=1, description="event streams of one recipient at once")


class CorsSettings(_Strict):
    """Which other origins' pages may read answers, and who may embed files."""

    origins: list[str] = Field(default_factory=list, description="as in https://app.example.org; * for any")
    credentials: bool = Field(False, description="with the session's cookie, too")
    seconds: int = Field(600, ge=0, description="for which a browser remembers that it asked")
    resource_policy: Literal["same-origin", "same-site", "cross-origin"] = "same-origin"

    @model_validator(mode="after")
    def _origins(self) -> CorsSettings:
        for origin in self.origins:
            if origin != "*" and not _ORIGIN.match(origin):
                raise ValueError(
                    f"{origin!r} is no origin; expected one such as 'https://app.example.org', without a path"
                )
        if self.credentials and "*" in self.origins:
            raise ValueError("credentials cannot go to every origin; name those that may have them")
        return self


class FrontSettings(_Strict):
    """A server in front of this one."""

    networks: list[str] = Field(
        default_factory=list, description="where it connects from, as in 127.0.0.1/32; unix for a Unix socket"
    )
    redirect_header: str | None = Field(
        None, pattern=_FIELD_NAME, description="what orders it to send a file", examples=["X-Accel-Redirect"]
    )
    rate_header: str | None = Field(
        None, pattern=_FIELD_NAME, description="what tells it a speed", examples=["X-Accel-Limit-Rate"]
    )
    redirect_paths: Literal["encoded", "plain"] = Field(
        "encoded", description="how that header holds a path: percent-encoded, or as it is"
    )
    secret_header: str | None = Field(
        None, pattern=_FIELD_NAME, description="what it proves itself with", examples=["X-Front-Secret"]
    )
    secret: SecretStr | None = Field(None, description="what that header holds, of 16 characters or more")

    @model_validator(mode="after")
    def _networks(self) -> FrontSettings:
        read_networks([text for text in self.networks if text != UNIX])
        if self.redirect_header and not (self.secret_header and self.secret):
            raise ValueError(
                "redirect_header needs secret_header and secret: other programs connect from where the front server "
                "does, and would get an empty answer in the place of a file"
            )
        if self.secret is not None and len(self.secret.get_secret_value()) < 16:
            raise ValueError("secret has 16 characters or more; openssl rand -hex 24 makes one")
        if self.redirect_header and not self.networks:
            raise ValueError("redirect_header needs networks: without it, anybody would learn where files are stored")
        return self


class IdentitySettings(_Strict):
    """An identity provider, whose tokens tell who is asking."""

    issuer: str = Field(min_length=1, description="what `iss` of a token must be")
    audience: str = Field(min_length=1, description="what `aud` of a token must hold")
    keys: str = Field(min_length=1, description="the file, or the address, of its JWK Set")
    id_claim: str = Field("sub", description="the claim that is the recipient's id")
    prefix: str = Field(
        "", pattern=r"^[A-Za-z0-9._@-]{0,32}$", description="what ids from there begin with here", examples=["sso."]
    )
    groups_claim: str | None = Field("groups", description="the claim that holds groups")
    algorithms: list[str] = Field(["RS256", "ES256", "EdDSA"], min_length=1)
    leeway: int = Field(30, ge=0, le=600, description="seconds by which two clocks may differ")

    @model_validator(mode="after")
    def _public_keys(self) -> IdentitySettings:
        for name in self.algorithms:
            if name not in _ALGORITHMS:
                # One with a shared secret would let whoever reads the published keys make tokens.
                said = f"{name!r} is no algorithm for published keys{did_you_mean(name, _ALGORITHMS)}"
                raise ValueError(f"{said}; expected {', '.join(_ALGORITHMS)}")
        return self


class DirectorySettings(_Strict):
    """A store of files below a directory."""

    kind: Literal["directory"]
    root: Path
    precompressed: bool = Field(False, description="name.gz and name.zst hold the same content as name")
    front: str | None = Field(
        None, pattern=r"^/.*/$", description="what its paths begin with at the front server", examples=["/charts/"]
    )
    writable: bool = Field(False, description="whether files can be put into it and removed, as the rules say")
    hidden: bool = Field(True, description="whether files and folders whose names begin with a dot are there")
    leave_out: list[str] = Field(
        default_factory=list, description="what is as if it were not there, as in *.tmp, drafts/*.pdf, **/old/*"
    )
    links: Literal["inside", "none"] = Field(
        "inside", description="which symbolic links are followed: those that stay inside the root, or none"
    )

    @model_validator(mode="after")
    def _patterns(self) -> DirectorySettings:
        read_exclusions(self.leave_out, hidden=not self.hidden)
        return self


class ManagedSettings(_Strict):
    """A store of files in versions, which come by being put."""

    kind: Literal["managed"]
    root: Path = Field(description="where it keeps their contents; nothing else may lie there")
    folder_bytes: dict[str, int] = Field(
        default_factory=dict, description='of all versions below a folder, at most, as in { "incoming/" = 10_000_000 }'
    )
    keep_versions: int | None = Field(None, ge=1, description="of a file, the newest among them; without it, all")
    keep_days: float | None = Field(
        None, gt=0, description="for which an earlier version is kept; without it, for good"
    )

    @model_validator(mode="after")
    def _folders(self) -> ManagedSettings:
        for folder, most in self.folder_bytes.items():
            if (folder and not folder.endswith("/")) or folder.startswith("/") or most < 0:
                raise ValueError(f"folder_bytes: {folder!r} = {most}; expected a folder as in 'incoming/', and bytes")
        return self


class ParameterSettings(_Strict):
    """A parameter in the path of a file made on demand: which values it has."""

    choices: list[str] | None = Field(None, min_length=1, description="these")
    query: str | None = Field(None, description="those in the first column of this; it may name parameters before it")
    pattern: str | None = Field(None, description="those that this regular expression describes; they are not listed")
    type: Literal["text", "integer", "number"] = Field("text", description="what a query or a function is given")

    @model_validator(mode="after")
    def _one_source(self) -> ParameterSettings:
        given = [name for name in ("choices", "query", "pattern") if getattr(self, name) is not None]
        if len(given) != 1:
            raise ValueError("a parameter has exactly one of choices, query and pattern")
        for value in self.choices or ():
            if not value or "/" in value:
                raise ValueError(f"{value!r} cannot be a value: it is a part of a path, without /")
        return self


class TableSettings(_Strict):
    """A file made on demand, or one for each value of its parameters: by a function, or by a query on a database."""

    path: str = Field(description="with {name} for each parameter")
    function: str | None = Field(None, description="module:function that gives rows, a header first; or bytes")
    database: str | None = Field(None, description="an SQLAlchemy URL")
    query: str | None = Field(None, description="with :name for each parameter's value")
    formats: list[Literal["csv", "jsonl", "xlsx"]] = Field(
        default_factory=list, description="of rows; {format} in the path says which"
    )
    parameters: dict[str, ParameterSettings] = Field(default_factory=dict)
    media_type: str | None = Field(None, pattern=_MEDIA_TYPE, description="what the function's bytes are")
    name: str | None = Field(None, description="what it is saved under, with {name} for each parameter")
    keep: Annotated[float, BeforeValidator(_seconds)] = Field(
        0.0, ge=0, le=7 * 86400, description="for how long a content is good for others, as in 10m"
    )
    caller: bool = Field(False, description="whether it is each recipient's own, and made for who asks")
    estimate: int | None = Field(None, ge=0, description="bytes that it has, about")
    mark: bool = Field(False, description="whether CSV begins with a byte order mark")
    formulas: Literal["kept", "safe"] = Field(
        "kept", description="whether CSV's cells may be what a spreadsheet takes for formulas"
    )

    @model_validator(mode="after")
    def _one_source(self) -> TableSettings:
        if (self.function is None) == (self.query is None) or (self.query is not None and self.database is None):
            raise ValueError("a file needs either function, or database and query")
        if self.media_type is not None and (self.function is None or self.formats):
            raise ValueError("media_type is for the bytes of a function; leave query and formats out")
        if any(one.query is not None for one in self.parameters.values()) and self.database is None:
            raise ValueError("a parameter's query needs the file's database")
        return self


class TablesSettings(_Strict):
    """A store of files that are made when they are asked for."""

    kind: Literal["tables"]
    connections: int = Field(5, ge=1, le=100, description="to each of its databases, at once")
    at_once: int = Field(16, ge=1, le=200, description="contents that are made at once; twice as many wait")
    file: list[TableSettings] = Field(min_length=1)


class RemoteSettings(_Strict):
    """A store of files on another system."""

    kind: Literal["remote"]
    url: str = Field(description="where the files are; the scheme says how they are reached")
    options: dict[str, Any] = Field(default_factory=dict, description="for that kind of file system")
    timeout: float = Field(20.0, gt=0, le=600, description="seconds that one call of it may take")
    fresh: float = Field(2.0, ge=0, le=3600, description="seconds for which what it said of a file is good")
    cache_bytes: int = Field(0, ge=0, description="of its contents that are kept on the disk; 0: none")
    redirect: int | None = Field(
        None, ge=1, le=86400, description="seconds that an address holds which the other system makes for a download"
    )


class ColumnSettings(_Strict):
    """What the columns of a table of files are called."""

    key: str = Field(description="the path of the file; it may hold /")
    content: str = Field(description="the file itself")
    name: str | None = Field(None, description="what it is saved under")
    media_type: str | None = None
    size: str | None = Field(None, description="its length in bytes; written, and never trusted")
    modified: str | None = Field(None, description="when it was changed last: a time, ISO 8601 text or Unix seconds")
    digest: str | None = Field(None, description="its SHA-256: 32 bytes, or 64 hexadecimal digits")
    description: str | None = Field(None, description="a short text on what it is about")
    by: str | None = Field(None, description="who put it; only written")
    facts: list[str] = Field(default_factory=list, description="further columns that are shown with the file")


class TableStoreSettings(_Strict):
    """A store of files that are rows of a table."""

    kind: Literal["table"]
    database: str = Field(description="an SQLAlchemy URL")
    table: str = Field(min_length=1, description="its name, with the schema before it where there is one")
    columns: ColumnSettings
    writable: bool = Field(False, description="whether rows can be added, replaced and removed, as the rules say")
    timeout: float = Field(20.0, gt=0, le=600, description="seconds that one statement may take")
    connections: int = Field(8, ge=1, le=100, description="to the database, at once")


class CustomSettings(_Strict):
    """A store of one's own: a Python class."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)
    kind: Literal["custom"]
    class_: str = Field(alias="class", description="package.module:Class")
    options: dict[str, Any] = Field(default_factory=dict, description="what it is made with, besides its name")


_KINDS: dict[str, type[BaseModel]] = {
    "directory": DirectorySettings,
    "managed": ManagedSettings,
    "tables": TablesSettings,
    "remote": RemoteSettings,
    "table": TableStoreSettings,
    "custom": CustomSettings,
}
StoreSettings = Annotated[
    DirectorySettings | ManagedSettings | TablesSettings | RemoteSettings | TableStoreSettings | CustomSettings,
    Field(discriminator="kind"),
]


_SECTIONS: dict[str, type[BaseModel]] = {
    "service": ServiceSettings,
    "bundles": BundleSettings,
    "limits": LimitSettings,
    "making": MakingSettings,
    "images": ImageSettings,
    "cors": CorsSettings,
    "front": FrontSettings,
    "identity": IdentitySettings,
}


class Settings(_Strict):
    """The whole file. `folder` is where it lies."""

    service: ServiceSettings = ServiceSettings()
    bundles: BundleSettings = BundleSettings()
    limits: LimitSettings = LimitSettings()
    making: MakingSettings = MakingSettings()
    images: ImageSettings = ImageSettings()
    renditions: dict[str, RenditionSettings] = Field(default_factory=dict)
    cors: CorsSettings = CorsSettings()
    front: FrontSettings = FrontSettings()
    identity: IdentitySettings | None = None
    stores: dict[str, StoreSettings] = Field(min_length=1)
    folder: Path = Field(Path(), exclude=True)
    file: Path | None = Field(None, exclude=True)

    @model_validator(mode="after")
    def _store_names(self) -> Settings:
        for name in self.stores:
            if not _STORE_NAME.match(name) or name in RESERVED:
                raise ValueError(f"{name!r} cannot name a store; use a-z, 0-9 and -, and not {', '.join(RESERVED)}")
        return self

    @model_validator(mode="after")
    def _rendition_names(self) -> Settings:
        for name in self.renditions:
            if not _STORE_NAME.match(name):
                raise ValueError(f"{name!r} cannot name a rendition; use 1 to 32 of a-z, 0-9 and -")
        return self

    def fault(self, place: tuple[str | int, ...], message: str) -> BadSettings:
        """An error in what stands at `place`, as in `("stores", "charts", "root")`."""
        where = ".".join(str(part) for part in place)
        if self.file is None:
            return BadSettings(f"settings: {where}: {message}")
        try:
            line = parse_toml(self.file.read_text("utf-8"), str(self.file), BadSettings).line_of(place)
        except (OSError, ValueError, BadSettings):
            return BadSettings(f"{self.file}: {where}: {message}")  # the file was altered or removed meanwhile
        return BadSettings.at(str(self.file), line, f"{where}: {message}")

    def path(self, path: Path) -> Path:
        """A path of the settings, as it stands on the disk."""
        return self.folder / path

    @property
    def database(self) -> Path:
        """Where the records lie."""
        return self.path(self.service.data) / "records.sqlite"


def read_settings(path: str | Path) -> Settings:
    """Reads the settings file at `path`.

    Raises:
        BadSettings: it is missing, is not TOML, or holds what it must not.
    """
    file = Path(path)
    try:
        text = file.read_text("utf-8")
    except FileNotFoundError:
        raise BadSettings(f"{file}: there is no such settings file; 'invio init' creates one") from None
    except UnicodeDecodeError:
        raise BadSettings(f"{file}: the settings cannot be read: this is no text in UTF-8") from None
    except OSError as error:
        raise BadSettings(f"{file}: the settings cannot be read: {error.strerror}") from None
    document = parse_toml(text, str(file), BadSettings)
    given = {key: value for key, value in document.data.items() if key not in ("folder", "file")}
    try:
        return Settings.model_validate({**given, "folder": file.resolve().parent, "file": file.resolve()})
    except ValidationError as error:
        raise BadSettings("\n".join(_explained(document, item) for item in error.errors())) from None


def settings_of(given: Mapping[str, Any], folder: Path | None = None) -> Settings:
    """Settings as a mapping, of the same shape as the file; paths are relative to `folder`, or to where one is.

    Raises:
        BadSettings: it holds what it must not.
    """
    try:
        return Settings.model_validate({**given, "folder": (folder or Path()).resolve()})
    except ValidationError as error:
        raise BadSettings("\n".join(_explained(None, item) for item in error.errors())) from None


def _explained(document: Document | None, error: Any) -> str:
    """One fault of the settings: where it stands, what is wrong, and what was expected."""
    # Pydantic puts the tag of a chosen kind into the place; the file has no such key.
    place = tuple(part for part in error["loc"] if part not in _KINDS)
    if error["type"] == "union_tag_invalid":
        place = (*place, "kind")
    where = ".".join(str(part) for part in place)
    message = f"{where}: {_wrong(error)}" if where else _wrong(error)
    if document is None:
        return f"settings: {message}"
    return f"{document.file}:{document.line_of(place)}: {message}"


def _wrong(error: Any) -> str:
    what, key, given = error["type"], error["loc"][-1] if error["loc"] else "", error["input"]
    kinds = ", ".join(repr(name) for name in _KINDS)
    if what == "extra_forbidden":
        allowed = _allowed(error["loc"][:-1])
        return f"there is no such setting{did_you_mean(key, allowed)}; expected {', '.join(allowed)}"
    if what == "missing":
        return f"this is needed, and is missing; give {key} = …"
    if what == "union_tag_not_found":
        return f"the store has no kind; give kind = one of {kinds}"
    if what == "union_tag_invalid":
        tag = error["ctx"]["tag"]
        return f"is {tag!r}; expected one of {kinds}{did_you_mean(tag, _KINDS)}"
    if what == "string_pattern_mismatch" and (field := _field(error["loc"])) and field.examples:
        return f"is {given!r}; expected {field.description}, as in {field.examples[0]}"
    message = error["msg"].removeprefix("Value error, ")
    message = message[:1].lower() + message[1:]
    shown = isinstance(given, str | int | float) and repr(given) not in message
    return f"{message}, not {given!r}" if shown else message


def _model(place: Sequence[str | int]) -> type[BaseModel] | None:
    """The section of the settings at a place, as pydantic names it."""
    model: type[BaseModel] | None = Settings
    for part in place:
        if part in _KINDS:
            model = _KINDS[str(part)]
        elif model is TablesSettings and part == "file":
            model = TableSettings
        elif model is TableSettings and part == "parameters":
            model = ParameterSettings
        elif model is TableStoreSettings and part == "columns":
            model = ColumnSettings
        elif model is Settings and part == "renditions":
            model = RenditionSettings
        elif model is Settings and part != "stores":
            model = _SECTIONS.get(str(part))
    return model


def _allowed(place: Sequence[str | int]) -> list[str]:
    model = _model(place)
    return [] if model is None else [name for name, field in model.model_fields.items() if not field.exclude]


def _field(place: Sequence[str | int]) -> FieldInfo | None:
    model = _model(place[:-1])
    return None if model is None else model.model_fields.get(str(place[-1]))
