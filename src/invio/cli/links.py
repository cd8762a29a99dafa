"""`invio link make / check / narrow`, offline with the key file; `list` and `revoke`, by a service."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from invio.cli.commands import CommandFailed
from invio.cli.options import gives_json, print_json, talks_to_service
from invio.cli.output import console, print_table, say
from invio.client import Client
from invio.core.addresses import parse_address
from invio.core.links.seals import (
    SealedLink,
    check_link,
    link_target,
    make_link,
    narrow_link,
    parse_url,
)
from invio.core.links.terms import CONDITION_NAMES, ROOT, Asked, LinkRefused, agent_mark
from invio.service.configuration import read_keys

_SPAN = re.compile(r"([0-9]+)(s|m|h|d|w)\Z")
_SECONDS = {"s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}


class Moment(click.ParamType[int]):
    """Unix seconds, `2026-12-24T18:00Z`, or a span from now on as in `90m`, `2h`, `7d`."""

    name = "when"

    def convert(self, value: Any, param: click.Parameter | None, context: click.Context | None) -> int:  # noqa: ARG002
        text = str(value)
        span = _SPAN.match(text)
        if span:
            return int(time.time()) + int(span[1]) * _SECONDS[span[2]]
        if text.isascii() and text.isdigit():
            return int(text)
        try:
            moment = datetime.fromisoformat(text)
        except ValueError:
            self.fail(f"{text!r} is neither Unix seconds, nor a time as 2026-12-24T18:00Z, nor a span as 2h or 7d")
        return int((moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp())


class PastMoment(Moment):
    """The same, but that a span reaches back from now: `2h` is two hours ago."""

    def convert(self, value: Any, param: click.Parameter | None, context: click.Context | None) -> int:
        now = int(time.time())
        moment = super().convert(value, param, context)
        return 2 * now - moment if _SPAN.match(str(value)) else moment


WHEN = Moment()
PAST = PastMoment()
KEYS = click.option(
    "--keys", type=click.Path(path_type=Path), envvar="INVIO_KEYS", default=Path("keys.json"), show_default=True,
    show_envvar=True, help="The key file.",
)  # fmt: skip

# The conditions as options, for make and narrow.
_CONDITION_OPTIONS: list[Callable[[Any], Any]] = [
    click.option("--only", multiple=True, metavar="ADDRESS", help="Just this file, or below this folder."),
    click.option("--until", multiple=True, type=WHEN, metavar="WHEN",
                 help="When it expires: Unix seconds, 2026-12-24T18:00Z, or a span as 90m, 2h, 7d."),
    click.option("--after", multiple=True, type=WHEN, metavar="WHEN", help="When it becomes valid."),
    click.option("--who", multiple=True, metavar="ID", help="Only for this recipient, signed in."),
    click.option("--net", multiple=True, metavar="CIDR", help="Only from this network."),
    click.option("--agent", multiple=True, metavar="TEXT", help="Only for this User-Agent, exactly."),
    click.option("--uses", multiple=True, type=click.IntRange(min=1), help="Allow this many downloads; needs an id."),
    click.option("--rate", multiple=True, type=click.IntRange(min=1), help="Limit the speed, in bytes a second."),
    click.option("--via", multiple=True, metavar="TEXT", help="A label for the history: who passes it on."),
    click.option("--tag", multiple=True, metavar="ID", help="Names one transfer, to follow its progress."),
]  # fmt: skip


def _takes_conditions(command: Any) -> Any:
    for option in reversed(_CONDITION_OPTIONS):
        command = option(command)
    return command


def _conditions(given: dict[str, Sequence[Any]]) -> list[tuple[str, str]]:
    return [
        (name, agent_mark(value) if name == "agent" else str(value))
        for name in CONDITION_NAMES
        for value in given.get(name, ())
    ]


@click.group()
def link() -> None:
    """Make, check and narrow sealed links, without asking a service; list and revoke those that one knows."""


@link.command()
@click.argument("address")
@KEYS
@click.option("--base", envvar="INVIO_URL", default="http://127.0.0.1:8480", show_default=True, show_envvar=True,
              help="The URL that the link starts with.")  # fmt: skip
@click.option("--in", "within", metavar="FOLDER", help="Open everything below this folder (store/folder/).")
@click.option("--version", type=click.IntRange(min=1), help="This version of the file.")
@click.option("--as", "disposition", type=click.Choice(["attachment", "inline"]), help="Save it, or show it.")
@click.option("--name", help="The name it is saved under.")
@click.option("--id", "link_id", help="Names the link, so that it can be counted and revoked.")
@click.option("--to", metavar="ID", help="The recipient it is made for.")
@_takes_conditions
@gives_json
def make(*, address: str, keys: Path, base: str, as_json: bool, **given: Any) -> None:
    """Seal a link for ADDRESS, with the current key of the key file."""
    ring = read_keys(keys)
    said = {**given, "in": given["within"], "as": given["disposition"], "id": given["link_id"]}
    root = [(name, str(said[name])) for name in ROOT if said[name] is not None]
    try:
        made = make_link(parse_address(address), ring.current, ring.keys[ring.current], root, _conditions(given))
    except LinkRefused as refused:
        raise click.UsageError(refused.detail) from None
    _print_link(made, base, as_json=as_json)


@link.command()
@click.argument("url")
@click.option("--address", help="Another file that a folder's link opens.")
@_takes_conditions
@gives_json
def narrow(*, url: str, address: str | None, as_json: bool, **given: Any) -> None:
    """Add conditions to the link URL. Needs no key, and can only take away."""
    conditions = _conditions(given)
    if not conditions and address is None:
        raise click.UsageError("name a condition to add, as in --until 2h")
    try:
        narrowed = narrow_link(parse_url(url), conditions, None if address is None else parse_address(address))
    except LinkRefused as refused:
        raise CommandFailed(f"{refused.detail} ({refused.reason.word})") from None
    _print_link(narrowed, url.partition("/get/")[0].partition("/pickup/")[0], as_json=as_json)


def _print_link(made: SealedLink, base: str, *, as_json: bool) -> None:
    url = base.rstrip("/") + link_target(made)
    if as_json:
        print_json({"url": url, **_facts(made)})
    else:
        say(url)


def _facts(of: SealedLink) -> dict[str, Any]:
    return {
        "address": str(of.address),
        "root": dict(of.root),
        "key": of.key,
        "conditions": [list(pair) for pair in of.conditions],
        "until": of.expires,
    }


@link.command()
@click.argument("url")
@KEYS
@click.option("--at", type=float, metavar="UNIX", help="When it is used; now, when not given.")
@click.option("--from", "network", metavar="IP", help="From which network address.")
@click.option("--agent", default="", metavar="TEXT", help="With which User-Agent.")
@click.option("--caller", metavar="ID", help="Signed in as whom.")
@gives_json
def check(
    *, url: str, keys: Path, at: float | None, network: str | None, agent: str, caller: str | None, as_json: bool
) -> None:
    """Check whether the link URL is valid, and if not, why. Only a service knows of uses and revocations."""
    ring = read_keys(keys)
    moment = time.time() if at is None else at
    result: dict[str, Any] = {"reason": "ok"}
    detail = "the link is good"
    try:
        parsed = parse_url(url)
        result |= _facts(parsed)
        check_link(parsed, ring.keys, Asked(moment, network, agent, caller))
    except LinkRefused as refused:
        result["reason"], detail = refused.reason.word, refused.detail
    result = {"reason": result.pop("reason"), "detail": detail, **result}
    good = result["reason"] == "ok"
    if as_json:
        print_json(result)
    else:
        console().print(Text(result["reason"], style="green" if good else "red"), Text(f": {detail}"), sep="")
        if "address" in result:
            _explain(result)
    if not good:
        raise click.exceptions.Exit(1)


def _explain(result: dict[str, Any]) -> None:
    """The link in words."""
    say(f"  opens {result['root'].get('in', result['address'])}, sealed with key {result['key']}")
    for name, value in [*result["root"].items(), *result["conditions"]]:
        say(f"  {name}: {_in_words(name, value)}")


def _in_words(name: str, value: str) -> str:
    if name in ("until", "after"):
        try:
            return f"{value} ({datetime.fromtimestamp(int(value), UTC):%Y-%m-%d %H:%M:%S} UTC)"
        except (OverflowError, ValueError, OSError):
            return value
    return f"{value} bytes a second" if name == "rate" else value


_LINK_STATES = {"holds": "green", "expired": "dim", "used-up": "yellow", "revoked": "red"}


@link.command(name="list")
@gives_json
@talks_to_service
def list_links(*, client: Client, as_json: bool) -> None:
    """List the links that a service made or has seen: your own, or those that you manage."""
    listed = list(client.links())
    if as_json:
        print_json({"links": listed})
        return
    rows = [
        (
            one["id"],
            Text(one["state"], _LINK_STATES[one["state"]]),
            one["scope"] or one["address"] or "made elsewhere",
            f"{one['used']}" if one["uses"] is None else f"{one['used']} of {one['uses']}",
            (one["until"] or "")[:16].replace("T", " ") or ("" if one["made"] is None else "never"),
            one["maker"] or "",
            one["recipient"] or "",
        )
        for one in listed
    ]
    columns = [("id", "left"), ("state", "left"), ("opens", "left"), ("uses", "right"), ("ends (UTC)", "left")]
    print_table([*columns, ("by", "left"), ("for", "left")], rows)


@link.command()
@click.argument("link_id", metavar="ID", required=False)
@click.option("--made-by", "maker", metavar="RECIPIENT", help="Revoke all links that RECIPIENT made, instead of one.")
@gives_json
@talks_to_service
def revoke(*, client: Client, link_id: str | None, maker: str | None, as_json: bool) -> None:
    """Revoke every link that has this ID, however it was narrowed."""
    if (link_id is None) == (maker is None):
        raise click.UsageError("name the ID of a link, or a recipient with --made-by")
    if link_id is None:
        ended = client.revoke_links_of(str(maker))
        print_json(ended) if as_json else say(f"{ended['revoked']} links that {maker} made are revoked")
        return
    revoked = client.revoke_link(link_id)
    if as_json:
        print_json(revoked)
        return
    known = "" if revoked["made"] or revoked["used"] else "; none is known here, so check the id"
    say(f"links with the id {link_id} are revoked; downloads counted before: {revoked['used']}{known}")
