"""Selection: addresses of files and folders → the files they name, each checked for the caller."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING
from urllib.parse import unquote, urlsplit

from invio.core.addresses import Address, BadAddress, is_url, parse_address
from invio.core.files import Caller
from invio.core.reasons import Refusal
from invio.delivery.access.catalogue import Catalogue
from invio.delivery.archives.plan import Plan
from invio.stores.store import Found, Missing, StoreFault

if TYPE_CHECKING:
    from invio.stores.urls import Urls

TAKES = ("list", "bundle", "read")  # the rights of which all must be there for all of a folder
_RIGHTS = ("bundle", "read")  # a bundle delivers what `read` would: it takes both
_NAMED = 100  # addresses that a refusal names, at most


@dataclass(frozen=True, slots=True)
class Skipped:
    """What a selection names and an archive does not hold; `reason` is a word of the reasons' table."""

    address: str
    reason: str


def _nothing(choosing: Selection) -> None:
    """The default `tick`: does nothing."""


@dataclass(slots=True)
class Selection:
    """Goes through a selection for one caller; what is missing or not allowed is noted, and refused at the end.

    `versions` are those wanted of some files, by address; of the others it is the newest.
    """

    catalogue: Catalogue
    caller: Caller
    versions: Mapping[str, int] = field(default_factory=dict)
    left_out: list[Skipped] = field(default_factory=list)
    # Called with the selection for each file, chosen or not; it may raise to end it.
    tick: Callable[[Selection], None] = _nothing
    # Maps a file to what the archive holds of it, such as a rendition; None: the file itself.
    shown: Callable[[Found], Found] | None = None
    # Files by their URLs; None: there are none.
    urls: Urls | None = None

    def chosen(self, files: Sequence[str]) -> Iterator[tuple[Found, str]]:
        """Each file once, with its path within the archive before names are made safe.

        Raises:
            StoreFault: another system did not answer.
        """
        seen: set[str] | None = set() if len(files) > 1 else None
        for text in files:
            self.tick(self)
            try:
                for found, path in self._expanded(text):
                    self.tick(self)
                    if seen is not None:
                        address = str(found.facts.address)
                        if address in seen:
                            continue
                        seen.add(address)
                    if found.personal:
                        found = found.of(self.caller)
                    if self.shown is None:
                        yield found, path
                        continue
                    shown = self._shown(found, self.shown)
                    if shown is not None:
                        yield shown, path if shown is found else renamed(path, str(shown.facts.name))
            except BadAddress:
                # It may hold characters that cannot be encoded, and it is shown and written into an archive.
                readable = text[:200].encode("utf-8", "replace").decode()
                self.left_out.append(Skipped(readable, "malformed"))
            except Refusal as refusal:
                self.left_out.append(Skipped(text, refusal.reason.word))

    def _shown(self, found: Found, shown: Callable[[Found], Found]) -> Found | None:
        """The file as it is in the archive; None where it cannot be, which is noted."""
        try:
            return shown(found)
        except Refusal as refusal:
            self.left_out.append(Skipped(str(found.facts.address), refusal.reason.word))
            return None

    def _at_url(self, text: str) -> Iterator[tuple[Found, str]]:
        """A file of another origin, by its URL; its name is the end of its path."""
        if self.urls is None:
            raise Refusal("not-allowed", "no origins are named that files are taken from by their URLs")
        try:
            found = self.urls.locate(text)
        except Missing:
            raise Refusal("missing", f"there is no file {text}") from None
        except StoreFault as error:
            raise Refusal(error.word, str(error)) from None
        path = unquote(urlsplit(text).path)
        yield found, path.rstrip("/").rpartition("/")[2] or "file"

    def _expanded(self, text: str) -> Iterator[tuple[Found, str]]:
        if is_url(text):
            yield from self._at_url(text)
            return
        address = parse_address(text)
        catalogue, caller = self.catalogue, self.caller
        if not address.folder:
            found = catalogue.obtain(caller, "bundle", address, self.versions.get(text))
            if catalogue.rules.allows(caller, "read", address, found.facts):
                yield found, address.name
            else:
                self.left_out.append(Skipped(text, "not-allowed"))
            return
        # A folder keeps its own name in the archive, without the folders above it; a store keeps its name.
        above = address.path.rstrip("/").rpartition("/")[0]
        left, prefix = len(above) + 1 if above else 0, "" if address.path else f"{address.store}/"
        sure = is_sure_below(catalogue, caller, address)
        for found in catalogue.below(caller, address):
            its = found.facts.address
            if self.versions:
                version = self.versions.get(str(its))
                if version not in (None, found.facts.version):
                    try:
                        found = catalogue.located(its, version)
                    except Refusal as refusal:
                        self.left_out.append(Skipped(str(its), refusal.reason.word))
                        continue
            if sure or may_bundle(catalogue, caller, found):
                yield found, prefix + its.path[left:]
            else:
                self.left_out.append(Skipped(str(its), "not-allowed"))

    def refuse(self, *, whole: bool = True) -> None:
        """Raises Refusal (`sign-in` or `bad-selection`), naming what was left out, unless nothing was.

        `whole`: everything was looked at, so that what is left out can be counted.
        """
        if not self.left_out:
            return
        unknown = [one.address for one in self.left_out if one.reason not in ("not-allowed", "sign-in")]
        refused = [one.address for one in self.left_out if one.reason in ("not-allowed", "sign-in")]
        said = []
        for what, names in (("unknown", unknown), ("not allowed", refused)):
            if names:
                least = "" if whole else "at least "
                more = f" and {least}{len(names) - _NAMED} more" if len(names) > _NAMED else ""
                said.append(f"{what}: {', '.join(names[:_NAMED])}{more}")
        word = "sign-in" if refused and self.caller.recipient is None else "bad-selection"
        raise Refusal(word, "; ".join(said), names=(*unknown[:_NAMED], *refused[:_NAMED]))


def renamed(path: str, name: str) -> str:
    """A path in an archive, with the name of its rendition, whose extension may differ."""
    return path.rpartition("/")[0] + "/" * ("/" in path) + name.replace("/", "_")


def is_sure_below(catalogue: Catalogue, caller: Caller, folder: Address) -> bool:
    """Whether a caller may have everything below a folder in an archive, without looking at each."""
    rules = catalogue.rules
    return rules.sure_below and all(rules.allows_below(caller, action, folder) for action in TAKES)


def may_bundle(catalogue: Catalogue, caller: Caller, found: Found) -> bool:
    """Whether the caller may have the file in an archive, by its facts."""
    rules, facts = catalogue.rules, found.facts
    return all(rules.allows(caller, action, facts.address, facts) for action in _RIGHTS)


def still_may(catalogue: Catalogue, caller: Caller, files: Sequence[str], plan: Plan) -> bool:
    """Whether a caller may have every entry of a plan, as the rules are now."""
    folders = [parse_address(text) for text in files if text.endswith("/") and not is_url(text)]
    sure = [folder for folder in folders if is_sure_below(catalogue, caller, folder)]
    if len(sure) == len(files):
        return True
    rules = catalogue.rules
    for number in range(len(plan)):
        address = plan.address(number)
        if address is None or any(address.within(folder) for folder in sure):
            continue
        if address.store.endswith(":"):  # by its URL: the settings say from where, and nothing else does
            continue
        facts = plan.facts(number) if rules.looks_at_files else None
        if facts is not None and facts.version is not None:  # it may no longer be the current one
            facts = catalogue.facts(address, facts.version) or facts._replace(current=False)
        if not all(rules.allows(caller, action, address, facts) for action in _RIGHTS):
            return False
    return True
