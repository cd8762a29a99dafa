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
@click.option("--state", type=click.Choice(list(STATES)), help="That ended so.")
@click.option("--since", type=WHEN, metavar="WHEN", help="Begun from then on: Unix seconds, 2026-12-24T18:00Z.")
@click.option("--until", type=WHEN, metavar="WHEN", help="Begun before then.")
@click.option("--limit", type=click.IntRange(min=1), help="So many, the newest first; 50 in a table, else all.")
@click.option("--csv", "as_csv", is_flag=True, help="Print all of it as CSV.")
@click.option("--json", "as_json", is_flag=True, help="Print all of it as JSON Lines.")
@talks_to_service
def history(client: Client, as_csv: bool, as_json: bool, limit: int | None, **filters: Any) -> None:
    """Show who obtained what, the newest first: your own, or what you manage."""
    if as_csv and as_json:
        raise click.UsageError("give --csv or --json, not both")
    form = "csv" if as_csv else "jsonl"
    lines = client.history(format=form, limit=limit if as_csv or as_json else limit or _SHOWN, **filters)
    if as_csv or as_json:
        for line in lines:
            click.echo(line)
        return
    columns = [("began (UTC)", "left"), ("state", "left"), ("bytes", "right"), ("requests", "right"), ("who", "left")]
    print_table([*columns, ("from", "left"), ("address", "left")], _rows(lines))


def _came_of(one: dict[str, Any]) -> str:
    """How much there was of how much; of what was refused, why."""
    if one["state"] == "refused":
        return str(one["reason"]).partition(":")[0]
    return f"{size_text(one['bytes'])} of {size_text(one['size'])}"


def _rows(lines: Iterator[str]) -> Iterator[tuple[str | Text, ...]]:
    for line in lines:
        one = json.loads(line)
        who = one["recipient"] or "anyone"
        through = f" by link {one['link']}" if one["link"] else ""
        yield (
            one["started"][:19].replace("T", " "),
            state_text(one["state"]),
            _came_of(one),
            str(one["requests"]),
            who + through,
            one["network"] or "",
            one["address"] + ("" if one["version"] is None else f"  (version {one['version']})"),
        )
