"""`invio history`: who obtained what, and what came of it."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import click
from rich.text import Text

from invio.cli.links import WHEN
from invio.cli.options import talks_to_service
from invio.cli.output import STATES, print_table, size_text, state_text
from invio.client import Client

_SHOWN = 50  # lines of a table; the other forms give all


@click.command()
@click.option("--recipient", metavar="ID", help="Of this recipient.")
@click.option("--address", help="Of this file, or below this folder (store/folder/).")
@click.option("--link", metavar="ID", help="By links of this id.")
@click.option("--of-token", metavar="ID", help="With this token, or in sessions opened with it.")
@click.option("--state", type=click.Choice(list(STATES)), help="That ended so.")
@click.option("--since", type=WHEN, metavar="WHEN", help="Begun from then on: Unix seconds, 2026-12-24T18:00Z.")
@click.option("--until", type=WHEN, metavar="WHEN", help="Begun before then.")
@click.option("--limit", type=click.IntRange(min=1), help="So many, the newest first; 50 in a table, else all.")
@click.option("--csv", "as_csv", is_flag=True, help="Print all of it as CSV.")
@click.option("--json", "as_json", is_flag=True, help="Print all of it as JSON Lines.")
@talks_to_service
def history(
    client: Client, as_csv: bool, as_json: bool, limit: int | None, of_token: str | None, **filters: Any
) -> None:
    """Show who obtained what, the newest first: your own, or what you manage."""
    if as_csv and as_json:
        raise click.UsageError("give --csv or --json, not both")
    form = "csv" if as_csv else "jsonl"
    most = limit if as_csv or as_json else limit or _SHOWN
    lines = client.history(format=form, limit=most, token=of_token, **filters)
    if as_csv or as_json:
        for line in lines:
            click.echo(line)
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
            one["recipient"] or "anyone",
            Text(one["address"] + ("" if one["version"] is None else f"  (version {one['version']})"))
            + Text("\n" + _through(one), style="dim"),
        )


def _through(one: dict[str, Any]) -> str:
    """By what it was had, from where, and what decided."""
    parts = [one["credential"], f"link {one['link']}" if one["link"] else None, one["via"] and f"via {one['via']}"]
    origin = f"from {one['network']}" if one["network"] else None
    return " · ".join(part for part in (*parts, origin, one["decided_by"]) if part)
