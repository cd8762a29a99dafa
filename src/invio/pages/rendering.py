"""Rendering: a template and what it is filled with → a page.

An operator's folder may hold templates of the same names, which stand before those that ship (and can extend them, as
`invio/base.html`), a `style.css` that follows the one that ships, and `texts.toml`. A template that fails is logged,
and the page that ships is shown in its place: whoever asks is not to pay for it.
"""

from __future__ import annotations

import logging
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from invio.core.errors import ConfigurationError
from invio.core.figures import duration_text, size_text
from invio.core.shown import shown
from invio.core.toml import did_you_mean

if TYPE_CHECKING:
    from jinja2 import Environment

log = logging.getLogger("invio.pages")

TEMPLATES = ("base.html", "listing.html", "pickup.html", "sign_in.html", "refusal.html", "start.html")
_SHIPPED = "invio/"  # what an operator's template extends the shipped ones by
TEXTS = {
    "name": "Files",  # of the whole service, at the head of each page
    "footer": "",
    "listing": "",  # above the list of stores
    "pickup": "",  # on the page of a link
    "sign_in": "Sign in with your name and password, or with an access token.",
}

# Pages run the module that ships and nothing else; what they hold comes from here.
POLICY = (
    "default-src 'none'; style-src 'unsafe-inline'; script-src 'self'; connect-src 'self'; img-src 'self'; "
    "form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)


# What stands in names and texts of languages and of signs that are put together, and reads as nothing else.
_KEPT = "\n\u061c\u200c\u200d\u200e\u200f"


def _shown(text: object) -> str:
    return shown(str(text), keep=_KEPT)


class Renderer:
    """Renders pages; the templates' engine takes memory, and is loaded when the first page is asked for."""

    def __init__(self, folder: Path | None = None) -> None:
        """`folder` is the operator's own.

        Raises:
            ConfigurationError: a file in it cannot be used; the message says which, where and why.
        """
        self._folder = folder
        self._engine: Environment | None = None
        self.texts = dict(TEXTS)
        if folder is not None:
            self._check(folder)
            self.texts |= _texts(folder / "texts.toml")

    def render(self, template: str, **filled: object) -> str:
        """The page that a template and its values make."""
        engine = self._engine or self._loaded()
        values: Mapping[str, Any] = {"texts": self.texts, "own_style": self._own_style(), **filled}
        try:
            return engine.get_template(template).render(values)
        except Exception as error:  # an operator's template may raise anything
            log.error("pages.template-failed", extra={"fields": {"template": template, "error": str(error)[:500]}})
            return engine.get_template(_SHIPPED + template).render(values)

    def _loaded(self) -> Environment:
        from jinja2 import ChoiceLoader, Environment, FileSystemLoader, PackageLoader, PrefixLoader, select_autoescape

        shipped = PackageLoader("invio.pages")
        own = [] if self._folder is None else [FileSystemLoader(self._folder)]
        loader = ChoiceLoader([*own, shipped, PrefixLoader({_SHIPPED.rstrip("/"): shipped})])
        engine = Environment(loader=loader, autoescape=select_autoescape(), trim_blocks=True, lstrip_blocks=True)
        engine.filters |= {"size": size_text, "duration": duration_text, "shown": _shown}
        self._engine = engine
        return engine

    def _own_style(self) -> str:
        if self._folder is None:
            return ""
        try:
            return (self._folder / "style.css").read_text("utf-8").replace("</", "<\\/")
        except FileNotFoundError:
            return ""

    def _check(self, folder: Path) -> None:
        from jinja2 import TemplateSyntaxError

        if not folder.is_dir():
            raise ConfigurationError(f"{folder} is not a folder; create it, or leave pages.folder out")
        engine = self._loaded()
        for name in TEMPLATES:
            if (folder / name).exists():
                try:
                    engine.get_template(name)
                except TemplateSyntaxError as error:
                    raise ConfigurationError(
                        f"{folder / (error.name or name)}:{error.lineno}: {error.message}"
                    ) from None


def _texts(file: Path) -> dict[str, str]:
    """The operator's texts. Raises ConfigurationError."""
    try:
        read = tomllib.loads(file.read_text("utf-8"))
    except FileNotFoundError:
        return {}
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise ConfigurationError(f"{file}: {error}") from None
    for name, text in read.items():
        if name not in TEXTS:
            raise ConfigurationError(f"{file}: there is no text {name!r}{did_you_mean(name, list(TEXTS))}")
        if not isinstance(text, str):
            raise ConfigurationError(f"{file}: {name}: expected a text in quotes")
    return read


SHIPPED = Renderer()
