"""`invio history`: who downloaded what, and how it ended."""

from __future__ import annotations

import json
from collections.abc import Iterator
from itertools import islice
from typing import Any

import click
from rich.text import Text

from invio.cli.links import PAST
from invio.cli.options import ADDRESS, talks_to_service
from invio.cli.output import STATES, file_text, print_table, say, state_text
from invio.client import Client
from invio.core.figures import size_text

_SHOWN = 50  # lines of a table; the other forms give all
_MOST = 1_000_000_000  # lines that can be asked for: nobody has more


@click.command()
@click.option("--recipient", metavar="ID", help="Only this recipient's transfers.")
@click.option("--address", type=ADDRESS, help="Only this file, or files below this folder (store/folder/).")
@click.option("--link", metavar="ID", help="Only transfers by links with this id.")
@click.option("--of-token", metavar="ID", help="Only with this token, or in sessions opened with it.")
@click.option("--state", type=click.Choice(list(STATES)), help="Only transfers in this state.")
@click.option(
    "--since",
    type=PAST,
    metavar="WHEN",
    help="Started at or after this time: Unix seconds, 2026-12-24T18:00Z, or 2h for the last two hours.",
)
@click.option("--until", type=PAST, metavar="WHEN", help="Started before this time; 2h is two hours ago.")
@click.option("--limit", type=click.IntRange(1, _MOST), help="How many to show, newest first; 50 in a table, else all.")
@click.option("--csv", "as_csv", is_flag=True, help="Print all of it as CSV.")
@click.option("--json", "as_json", is_flag=True, help="Print all of it as JSON Lines.")
@talks_to_service
def history(
    *, client: Client, as_csv: bool, as_json: bool, limit: int | None, of_token: str | None, **filters: Any
) -> None:
    """Show downloads, the newest first: your own, or those of files you manage."""
    if as_csv and as_json:
        raise click.UsageError("give --csv or --json, not both")
    form = "csv" if as_csv else "jsonl"
    most = limit if as_csv or as_json else limit or _SHOWN
    lines = client.history(format=form, limit=most, token=of_token, **filters)
    if as_csv or as_json:
        for line in lines:
            say(line)
        return
    columns = [("began (UTC)", "left"), ("state", "left"), ("bytes", "right"), ("requests", "right"), ("who", "left")]
    print_table([*columns, ("address, and through what", "left")], _rows(lines))


def _came_of(one: dict[str, Any]) -> str:
    """How much there was of how much; of what was refused, why."""
    if one["state"] == "refused":
        return str(one["reason"]).partition(":")[0]
    return f"{size_text(one['bytes'])} of {size_text(one['size'])}"


def _rows(lines: Iterator[str]) -> Iterator[tuple[str | Text, ...]]:
    for line in lines:
        one = json.loads(line)
        yield (
            one["started"][:19].replace("T", " "),
            state_text(one["state"]),
            _came_of(one),
            str(one["requests"]),
            _who(one),
            Text(file_text(one)) + Text("\n" + _through(one), style="dim"),
        )


def _who(one: dict[str, Any]) -> str:
    """Who obtained it; of a link that somebody made for another, whom they said it was for."""
    if one["recipient"]:
        return str(one["recipient"])
    return f"anyone (a link for {one['made_for']})" if one.get("made_for") else "anyone"


def _through(one: dict[str, Any]) -> str:
    """By what it was had, from where, and what decided."""
    parts = [one["credential"], f"link {one['link']}" if one["link"] else None, one["via"] and f"via {one['via']}"]
    origin = f"from {one['network']}" if one["network"] else None
    return " · ".join(part for part in (*parts, origin, one["decided_by"]) if part)


@click.command()
@click.option("--event", metavar="NAME", help="Only this event, or all events of a kind: sign-in, token, link.")
@click.option("--by", metavar="ID", help="Only actions by this recipient.")
@click.option("--limit", type=click.IntRange(1, _MOST), help="How many to show, newest first; 50 in a table, else all.")
@click.option("--json", "as_json", is_flag=True, help="Print all of it as JSON Lines.")
@talks_to_service
def audit(*, client: Client, event: str | None, by: str | None, limit: int | None, as_json: bool) -> None:
    """Show who signed in, and who changed recipients, tokens, keys, rules and links. For administrators."""
    lines = islice(client.audit(event, by), limit if as_json else limit or _SHOWN)
    if as_json:
        for line in lines:
            say(json.dumps(line))
        return
    columns = [("when (UTC)", "left"), ("event", "left"), ("by", "left"), ("what, and from where", "left")]
    print_table(columns, (_audited(line) for line in lines))


def _audited(line: dict[str, Any]) -> tuple[str | Text, ...]:
    about = " · ".join(f"{name} {_listed(value)}" for name, value in line["about"].items())
    origin = " · ".join(part for part in (line["credential"], line["network"] and f"from {line['network']}") if part)
    what = Text(about + ("\n" if about and origin else "")) + Text(origin, style="dim")
    return line["at"][:19].replace("T", " "), line["event"], line["by"] or "the service", what


def _listed(value: object) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)
