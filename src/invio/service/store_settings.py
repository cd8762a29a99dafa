"""The settings of stores: one section a kind, told apart by `kind`."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator

from invio.core.exclusions import read_exclusions
from invio.core.http.media_types import ESSENCE

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


class Strict(BaseModel):
    """A section: it holds what it knows and nothing else."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class DirectorySettings(Strict):
    """A store of files below a directory."""

    kind: Literal["directory"]
    root: Path
    precompressed: bool = Field(default=False, description="name.gz and name.zst hold the same content as name")
    front: str | None = Field(
        None, pattern=r"^/.*/$", description="what its paths begin with at the front server", examples=["/charts/"]
    )
    writable: bool = Field(default=False, description="whether files can be put into it and removed, as the rules say")
    hidden: bool = Field(default=True, description="whether files and folders whose names begin with a dot are there")
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


class ManagedSettings(Strict):
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


class ParameterSettings(Strict):
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


class TableSettings(Strict):
    """A file made on demand, or one for each value of its parameters: by a function, or by a query on a database."""

    path: str = Field(description="with {name} for each parameter")
    function: str | None = Field(None, description="module:function that gives rows, a header first; or bytes")
    database: str | None = Field(None, description="an SQLAlchemy URL")
    query: str | None = Field(None, description="with :name for each parameter's value")
    formats: list[Literal["csv", "jsonl", "xlsx"]] = Field(
        default_factory=list, description="of rows; {format} in the path says which"
    )
    parameters: dict[str, ParameterSettings] = Field(default_factory=dict)
    media_type: str | None = Field(None, pattern=f"^{ESSENCE}$", description="what the function's bytes are")
    name: str | None = Field(None, description="what it is saved under, with {name} for each parameter")
    keep: Annotated[float, BeforeValidator(_seconds)] = Field(
        0.0, ge=0, le=7 * 86400, description="for how long a content is good for others, as in 10m"
    )
    caller: bool = Field(default=False, description="whether it is each recipient's own, and made for who asks")
    estimate: int | None = Field(None, ge=0, description="bytes that it has, about")
    mark: bool = Field(default=False, description="whether CSV begins with a byte order mark")
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


class TablesSettings(Strict):
    """A store of files that are made when they are asked for."""

    kind: Literal["tables"]
    connections: int = Field(5, ge=1, le=100, description="to each of its databases, at once; one is for looking up")
    at_once: int = Field(16, ge=1, le=200, description="contents that functions make at once, half for one caller")
    file: list[TableSettings] = Field(min_length=1)


class RemoteSettings(Strict):
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


class ColumnSettings(Strict):
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


class TableStoreSettings(Strict):
    """A store of files that are rows of a table."""

    kind: Literal["table"]
    database: str = Field(description="an SQLAlchemy URL")
    table: str = Field(min_length=1, description="its name, with the schema before it where there is one")
    columns: ColumnSettings
    writable: bool = Field(
        default=False, description="whether rows can be added, replaced and removed, as the rules say"
    )
    timeout: float = Field(20.0, gt=0, le=600, description="seconds that one statement may take")
    connections: int = Field(8, ge=1, le=100, description="to the database, at once")


class CustomSettings(Strict):
    """A store of one's own: a Python class."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)
    kind: Literal["custom"]
    class_: str = Field(alias="class", description="package.module:Class")
    options: dict[str, Any] = Field(default_factory=dict, description="what it is made with, besides its name")


KINDS: dict[str, type[BaseModel]] = {
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
