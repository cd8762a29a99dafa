"""`invio link make / check / narrow`, offline with the key file; `make --service`, `list`, `revoke` by a service."""

from __future__ import annotations

import os
import re
import time
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from invio.cli.commands import CommandFailed
from invio.cli.options import ADDRESS, gives_json, print_json, refusal_text, talks_to_service
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
_AMOUNT = re.compile(r"([0-9]{1,15})(k|M|G|)\Z", re.ASCII)
_TIMES = {"": 1, "k": 10**3, "M": 10**6, "G": 10**9}
_SECONDS = {"s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}


class Moment(click.ParamType[int]):
    """Unix seconds, `2026-12-24T18:00Z`, or a span from now on as in `90m`, `2h`, `7d`."""

    name = "when"

    def convert(self, value: Any, param: click.Parameter | None, context: click.Context | None) -> int:  # noqa: ARG002
        """Unix seconds of what was typed: a span from now, or a moment."""
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
        """Unix seconds of what was typed: a span before now, or a moment."""
        now = int(time.time())
        moment = super().convert(value, param, context)
        return 2 * now - moment if _SPAN.match(str(value)) else moment


class Amount(click.ParamType[int]):
    """Bytes, or bytes a second: a whole number, or one with k, M or G for thousands, millions, milliards."""

    name = "bytes"

    def convert(self, value: Any, param: click.Parameter | None, context: click.Context | None) -> int:  # noqa: ARG002
        """Bytes of what was typed: a number, or one with a unit."""
        found = _AMOUNT.match(str(value))
        if found is None or not int(found[1]):
            self.fail(f"{value!r} is no number of bytes; expected one as 4000000 or 4M")
        return int(found[1]) * _TIMES[found[2]]


WHEN = Moment()
SPEED = AMOUNT = Amount()
PAST = PastMoment()
KEYS = click.option(
    "--keys", type=click.Path(path_type=Path), envvar="INVIO_KEYS", default=Path("keys.json"), show_default=True,
    show_envvar=True, help="The key file.",
)  # fmt: skip

# The conditions as options, for make and narrow.
_CONDITION_OPTIONS: list[Callable[[Any], Any]] = [
    click.option("--only", multiple=True, type=ADDRESS, metavar="ADDRESS",
                 help="Just this file, or below this folder."),
    click.option("--until", multiple=True, type=WHEN, metavar="WHEN",
                 help="When it expires: Unix seconds, 2026-12-24T18:00Z, or a span as 90m, 2h, 7d."),
    click.option("--after", multiple=True, type=WHEN, metavar="WHEN", help="When it becomes valid."),
    click.option("--who", multiple=True, metavar="ID", help="Only for this recipient, signed in."),
    click.option("--net", multiple=True, metavar="CIDR", help="Only from this network."),
    click.option("--agent", multiple=True, metavar="TEXT", help="Only for this User-Agent, exactly."),
    click.option("--uses", multiple=True, type=click.IntRange(min=1), help="Allow this many downloads; needs an id."),
    click.option("--rate", multiple=True, type=SPEED, metavar="BYTES",
                 help="Limit the speed, in bytes a second: 4000000, or 4M for four million."),
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


def _base(context: click.Context, parameter: click.Parameter, value: str | None) -> str:  # noqa: ARG001
    """What links begin with: what was given, else the settings' public URL, else the service on this machine."""
    if value is None:
        value = _public_url() or "http://127.0.0.1:8480"
    if not value.startswith(("http://", "https://")):
        raise click.BadParameter(f"{value!r} has no scheme; expected a URL as https://files.example.org")
    return value


def _public_url() -> str | None:
    from invio.service.settings import BadSettings, read_settings

    try:
        return read_settings(os.environ.get("INVIO_SETTINGS") or "invio.toml").service.public_url
    except BadSettings:
        return None


@link.command()
@click.argument("address", type=ADDRESS)
@KEYS
@click.option("--service", "by_service", is_flag=True,
              help="Have the service of --base make it, by your rights there; takes no key file.")  # fmt: skip
@click.option("--token", envvar="INVIO_TOKEN", show_envvar=True, help="Your access token, for --service.")
@click.option("--base", envvar="INVIO_URL", callback=_base, show_envvar=True, metavar="URL",
              help="What the link starts with; without it, public_url of the settings in this folder.")  # fmt: skip
@click.option(
    "--in", "within", type=ADDRESS, metavar="FOLDER", help="Open everything below this folder (store/folder/)."
)
@click.option("--version", type=click.IntRange(min=1), help="This version of the file.")
@click.option("--rendition", metavar="NAME", help="This rendition of the image, as the settings name them.")
@click.option("--as", "disposition", type=click.Choice(["attachment", "inline"]), help="Save it, or show it.")
@click.option("--name", help="The name it is saved under.")
@click.option("--id", "link_id", help="Names the link, so that it can be counted and revoked.")
@click.option("--to", metavar="ID", help="The recipient it is made for.")
@_takes_conditions
@gives_json
def make(
    *, address: str, keys: Path, by_service: bool, token: str | None, base: str, as_json: bool, **given: Any
) -> None:
    """Seal a link for ADDRESS, with the current key of the key file; or with --service, have the service seal it.

    Without --until it has no end, unless the service's rules give it one.
    """
    said = {**given, "in": given["within"], "as": given["disposition"], "id": given["link_id"]}
    root = [(name, str(said[name])) for name in ROOT if said[name] is not None]
    _require_future(given)
    if by_service:
        _print_made(_made_by_service(base, token, address, root, given), as_json=as_json)
        return
    ring = read_keys(keys)
    try:
        made = make_link(parse_address(address), ring.current, ring.keys[ring.current], root, _conditions(given))
    except LinkRefused as refused:
        raise click.UsageError(refused.detail) from None
    _print_link(made, base, as_json=as_json)


def _require_future(given: dict[str, Sequence[Any]]) -> None:
    """Refuses times between which a link would never work."""
    until, now = min(given["until"], default=None), time.time()
    if until is not None and until <= now:
        raise click.UsageError(f"--until {until} is in the past, so the link would never work; name a later end")
    after = max(given["after"], default=None)
    if until is not None and after is not None and after >= until:
        raise click.UsageError("--after is not before --until, so the link would never work; name an earlier beginning")


def _require_common(link: SealedLink, given: dict[str, Sequence[Any]]) -> None:
    """Refuses files of which the link opens none. Raises UsageError."""
    scope = parse_address(link.scope)
    for text in given["only"]:
        only = parse_address(text)
        if not scope.within(only) and not only.within(scope):
            raise click.UsageError(f"--only {text}: the link opens {link.scope}, and nothing of it is there")


def _made_by_service(
    base: str, token: str | None, address: str, root: list[tuple[str, str]], given: dict[str, Sequence[Any]]
) -> dict[str, Any]:
    from invio.client import Client, ClientError, Refused

    says: dict[str, Any] = dict(root)
    for name in CONDITION_NAMES:
        values = list(given.get(name, ()))
        if name in ("only", "net"):
            says[name] = values
        elif len(values) > 1:
            raise click.UsageError(f"--{name} can be given once with --service")
        elif values:
            says[name] = agent_mark(values[0]) if name == "agent" else values[0]
    try:
        with Client(base, token) as client:
            return client.make_link(str(parse_address(address)), **says)
    except Refused as refused:
        raise CommandFailed(refusal_text(refused)) from None
    except (ClientError, ValueError) as error:
        raise CommandFailed(str(error)) from None


def _print_made(made: dict[str, Any], *, as_json: bool) -> None:
    if as_json:
        print_json(made)
        return
    say(made["url"])
    end = (
        "no end"
        if made["until"] is None
        else f"until {datetime.fromtimestamp(made['until'], UTC):%Y-%m-%d %H:%M:%S} UTC"
    )
    say(f"{end}; revoked by: invio link revoke {made['id']}", err=True)


@link.command()
@click.argument("url")
@click.option("--address", type=ADDRESS, help="Another file that a folder's link opens.")
@_takes_conditions
@gives_json
def narrow(*, url: str, address: str | None, as_json: bool, **given: Any) -> None:
    """Add conditions to the link URL. Needs no key, and can only take away."""
    conditions = _conditions(given)
    if not conditions and address is None:
        raise click.UsageError("name a condition to add, as in --until 2h")
    _require_future(given)
    try:
        _require_common(parse_url(url), given)
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
    """Check whether the link URL is valid, and if not, why. Only a service knows about uses and revocations."""
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
@click.option("--made-by", "maker", metavar="RECIPIENT", help="Only links that RECIPIENT had made.")
@gives_json
@talks_to_service
def list_links(*, client: Client, maker: str | None, as_json: bool) -> None:
    """List the links that a service made or has seen: your own; for administrators, everybody's.

    Links made offline are listed once they were used, if they have an id.
    """
    listed = list(client.links(maker))
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
