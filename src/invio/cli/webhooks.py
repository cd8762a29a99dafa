"""`invio webhooks`: the addresses that are notified of events, and their deliveries."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from typing import Any

import click
from rich.text import Text

from invio.cli.options import gives_json, print_json, talks_to_service
from invio.cli.output import print_table, say
from invio.client import Client
from invio.core.webhooks import EVENTS

_SHOWN = 50  # deliveries of a table
_WEBHOOK = click.argument("webhook", metavar="ID")


@click.group()
def webhooks() -> None:
    """Notify addresses of events: add, try and remove them, and see their deliveries. For administrators."""


@webhooks.command(name="list")
@gives_json
@talks_to_service
def list_webhooks(*, client: Client, as_json: bool) -> None:
    """List webhooks, with how many deliveries wait."""
    found = client.webhooks()["webhooks"]
    if as_json:
        print_json({"webhooks": found})
        return
    columns = [("id", "left"), ("waiting", "right"), ("url, and what it is told of", "left")]
    print_table(columns, _rows(found))


@webhooks.command(name="add", epilog="Events: " + ", ".join(EVENTS) + ".")
@click.argument("target", metavar="URL")
@click.option("--event", "events", multiple=True, required=True, type=click.Choice(list(EVENTS)), metavar="EVENT",
              help="What it is told of; may be given several times.")  # fmt: skip
@click.option("--label", default="", help="What it is for.")
@gives_json
@talks_to_service
def add(*, client: Client, target: str, events: tuple[str, ...], label: str, as_json: bool) -> None:
    """Notify URL of events, by a signed POST each. 'invio webhooks try' shows whether it accepts them."""
    made = client.add_webhook(target, events, label)
    if as_json:
        print_json(made)
        return
    say(f"{made['url']} is told of {', '.join(made['events'])} from now on; its id is {made['id']}")


@webhooks.command(name="remove")
@_WEBHOOK
@talks_to_service
def remove(*, client: Client, webhook: str) -> None:
    """Remove the webhook ID, and the deliveries that wait for it."""
    client.remove_webhook(webhook)
    say(f"{webhook} is told nothing more")


@webhooks.command(name="try")
@_WEBHOOK
@talks_to_service
def try_it(*, client: Client, webhook: str) -> None:
    """Send the webhook ID the event webhook.trial."""
    client.try_webhook(webhook)
    say(f"it is being told; 'invio webhooks deliveries {webhook}' shows what came back")


@webhooks.command(name="deliveries")
@_WEBHOOK
@gives_json
@talks_to_service
def deliveries(*, client: Client, webhook: str, as_json: bool) -> None:
    """Show the deliveries of the webhook ID, the newest first, and the responses."""
    found = list(islice(client.deliveries(webhook), _SHOWN))
    if as_json:
        print_json({"deliveries": found})
        return
    columns = [("number", "right"), ("happened (UTC)", "left"), ("event", "left"), ("state", "left")]
    print_table([*columns, ("attempts", "right"), ("what came back", "left")], map(_told, found))


@webhooks.command(name="again")
@_WEBHOOK
@click.argument("number", type=click.IntRange(min=1))
@talks_to_service
def again(*, client: Client, webhook: str, number: int) -> None:
    """Send the delivery NUMBER to the webhook ID again, now."""
    client.repeat_delivery(webhook, number)
    say(f"{number} is being told once more")


def _rows(found: list[dict[str, Any]]) -> Iterator[tuple[str | Text, ...]]:
    for one in found:
        told = ", ".join(one["events"]) + (f" ({one['label']})" if one["label"] else "")
        yield one["id"], str(one["waiting"]), Text(one["url"]) + Text("\n" + told, style="dim")


def _told(one: dict[str, Any]) -> tuple[str | Text, ...]:
    again = "" if one["next"] is None else f"; again at {one['next'][11:19]}"
    came = Text((one["said"] or "") + again)
    at = one["made"][:19].replace("T", " ")
    return str(one["id"]), at, one["event"], one["state"].replace("-", " "), str(one["attempts"]), came
