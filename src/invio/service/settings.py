"""Settings: one TOML file. Every error names the file, the line, what is wrong and what was expected.

Paths in it are relative to the file's own folder.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, Field, SecretStr, ValidationError, model_validator
from pydantic.fields import FieldInfo

from invio.core.errors import ConfigurationError
from invio.core.http.forwarded import read_networks
from invio.core.toml import Document, did_you_mean, parse_toml
from invio.service.store_settings import (
    KINDS,
    ColumnSettings,
    ParameterSettings,
    StoreSettings,
    Strict,
    TableSettings,
    TablesSettings,
    TableStoreSettings,
)

# What an address may not have as a store, because it means something else.
RESERVED = ("bundles",)
UNIX = "unix"  # among networks: whoever connects by a Unix socket
_ORIGIN = re.compile(r"https?://[^/?#\s@*]+\Z")
_URL = r"^https?://[^/?#\s]+(/[^?#\s]*)?$"
_PLACE = r"^(https?://[^\s#]+|/[^\s#/\\][^\s#]*)$"
_FIELD_NAME = r"^[!#$%&'*+.^_`|~0-9A-Za-z-]+$"
_LINK = r"^$|^(https?://|mailto:|tel:|/)"
_ALGORITHMS = ("RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA")
_STORE_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,31}\Z")


class BadSettings(ConfigurationError):
    """The settings cannot be used; the message is `file:line: section.key: what is wrong`."""


class ServiceSettings(Strict):
    """Where the service listens, and where it keeps its own things."""

    host: str = "127.0.0.1"
    port: int = Field(8480, ge=0, le=65535)
    workers: int = Field(1, ge=1, le=128, description="processes that serve")
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


class BundleSettings(Strict):
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


class WebhookSettings(Strict):
    """Where webhooks may be besides public addresses by HTTPS."""

    origins: list[str] = Field(
        default_factory=list,
        description="which may be told by plain HTTP, or inside, as in http://app.internal:8000",
    )

    @model_validator(mode="after")
    def _origins(self) -> WebhookSettings:
        for origin in self.origins:
            if not _ORIGIN.match(origin):
                raise ValueError(f"{origin!r} is no origin; expected one such as 'http://app.internal:8000'")
        return self


class MakingSettings(Strict):
    """What may be made on demand, and how much of it is on the disk at once."""

    seconds: float = Field(600.0, gt=0, description="for making one content")
    bytes: int = Field(4 << 30, ge=1, description="of one content")
    disk_bytes: int = Field(16 << 30, ge=1, description="of all that is being made, or kept, in each process")


class RenditionSettings(Strict):
    """An image derived from stored ones."""

    width: int = Field(ge=1, le=10_000, description="pixels")
    height: int = Field(ge=1, le=10_000, description="pixels")
    fit: Literal["cover", "contain", "exact"] = Field(
        "contain", description="fill the size and cut off the rest; fit into it; or be stretched to it"
    )
    format: Literal["jpeg", "png", "webp"] | None = Field(None, description="without it, the original's")
    quality: int = Field(80, ge=1, le=100, description="of JPEG and WebP")


class ImageSettings(Strict):
    """What images renditions are made of, and how many are kept."""

    pixels: int = Field(100_000_000, ge=1, description="of an image, at most")
    bytes: int = Field(256 << 20, ge=1, description="of an image, at most")
    seconds: float = Field(20.0, gt=0, le=600, description="for making one")
    processes: int = Field(2, ge=1, le=32, description="that make them, of each process that serves")
    cache_bytes: int = Field(1 << 30, ge=1, description="of renditions that are kept")


class LimitSettings(Strict):
    """How fast, how many at once, and how patiently; without a value there is no limit."""

    rate: int | None = Field(None, ge=1, description="bytes a second of all connections")
    recipient_rate: int | None = Field(None, ge=1, description="bytes a second of one recipient, all connections")
    requests: int | None = Field(None, ge=1, description="bodies that are sent at once")
    recipient_transfers: int | None = Field(None, ge=1, description="files that one recipient obtains at once")
    put_bytes: int | None = Field(None, ge=1, description="bytes of a file that is put")
    idle: float = Field(60.0, gt=0, description="seconds for which a reader may take nothing")
    head: float = Field(30.0, gt=0, description="seconds within which a request's head has to be there")
    body_bytes: int = Field(1 << 20, ge=1, description="bytes of a request's body, but of a selection or a file")
    selection_bytes: int = Field(8 << 20, ge=1, description="bytes of the body that holds a selection")
    network_connections: int | None = Field(None, ge=1, description="connections of one network at once")
    streams: int = Field(2000, ge=1, description="event streams of each process at once")
    recipient_streams: int = Field(20, ge=1, description="event streams of one recipient, or of one link, at once")
    network_streams: int = Field(200, ge=1, description="of downloads that are followed from one network address")


class PageSettings(Strict):
    """Pages for people: an operator's own templates and texts, and pages elsewhere that people are sent to."""

    folder: Path | None = Field(None, description="of templates, style.css and texts.toml")
    sign_in: str | None = Field(
        None, pattern=_PLACE, description="instead of /sign-in; then= says where one wanted to go"
    )
    quota: str | None = Field(None, pattern=_PLACE, description="for who has reached a quota; then= and reason=")
    refusal: str | None = Field(None, pattern=_PLACE, description="for every other refusal; then= and reason=")


class CorsSettings(Strict):
    """Which other origins' pages may read answers, and who may embed files."""

    origins: list[str] = Field(default_factory=list, description="as in https://app.example.org; * for any")
    credentials: bool = Field(default=False, description="with the session's cookie, too")
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


class FrontSettings(Strict):
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


class IdentitySettings(Strict):
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


_SECTIONS: dict[str, type[BaseModel]] = {
    "service": ServiceSettings,
    "bundles": BundleSettings,
    "limits": LimitSettings,
    "making": MakingSettings,
    "images": ImageSettings,
    "cors": CorsSettings,
    "front": FrontSettings,
    "identity": IdentitySettings,
    "webhooks": WebhookSettings,
}


class Settings(Strict):
    """The whole file. `folder` is where it lies."""

    service: ServiceSettings = ServiceSettings()
    bundles: BundleSettings = BundleSettings()
    limits: LimitSettings = LimitSettings()
    making: MakingSettings = MakingSettings()
    images: ImageSettings = ImageSettings()
    renditions: dict[str, RenditionSettings] = Field(default_factory=dict)
    cors: CorsSettings = CorsSettings()
    pages: PageSettings = Field(default_factory=PageSettings)
    front: FrontSettings = FrontSettings()
    identity: IdentitySettings | None = None
    webhooks: WebhookSettings = WebhookSettings()
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
    place = tuple(part for part in error["loc"] if part not in KINDS)
    if error["type"] == "union_tag_invalid":
        place = (*place, "kind")
    where = ".".join(str(part) for part in place)
    message = f"{where}: {_wrong(error)}" if where else _wrong(error)
    if document is None:
        return f"settings: {message}"
    return f"{document.file}:{document.line_of(place)}: {message}"


def _wrong(error: Any) -> str:
    what, key, given = error["type"], error["loc"][-1] if error["loc"] else "", error["input"]
    kinds = ", ".join(repr(name) for name in KINDS)
    if what == "extra_forbidden":
        allowed = _allowed(error["loc"][:-1])
        return f"there is no such setting{did_you_mean(key, allowed)}; expected {', '.join(allowed)}"
    if what == "missing":
        return f"this is needed, and is missing; give {key} = …"
    if what == "union_tag_not_found":
        return f"the store has no kind; give kind = one of {kinds}"
    if what == "union_tag_invalid":
        tag = error["ctx"]["tag"]
        return f"is {tag!r}; expected one of {kinds}{did_you_mean(tag, KINDS)}"
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
        if part in KINDS:
            model = KINDS[str(part)]
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
