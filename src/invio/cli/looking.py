"""`invio files`, `invio why` and `invio transfers`: files, decisions, and running transfers."""

from __future__ import annotations

import sys
from collections import OrderedDict
from datetime import datetime
from typing import Any

import click
from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from invio.cli.commands import CommandFailed
from invio.cli.options import ADDRESS, gives_json, print_json, talks_to_service
from invio.cli.output import console, file_text, json_text, plain_table, print_table, say, state_text
from invio.client import Client
from invio.core.addresses import parse_address
from invio.core.figures import duration_text, size_text
from invio.core.rules.decisions import ACTIONS

_SHOWN = 20  # transfers that --follow keeps on the screen
_WIDE = 120  # columns of a terminal in which ids have room
_MAY_NOT = 3  # exit status of `why`: 1 is for what went wrong, 2 for a wrong command


@click.command()
@click.argument("address", type=ADDRESS, required=False)
@click.option("--versions", is_flag=True, help="List the versions of the file ADDRESS, the newest first.")
@click.option("--search", metavar="TEXT", help="List what is below ADDRESS with TEXT in its name or description.")
@click.option("--sort", type=click.Choice(["name", "-name", "size", "-size", "modified", "-modified"]),
              help="The order; - for the other way round.")  # fmt: skip
@gives_json
@talks_to_service
def files(
    *, client: Client, address: str | None, versions: bool, search: str | None, sort: str | None, as_json: bool
) -> None:
    """List the stores, or what is in ADDRESS (store/ or store/folder/)."""
    if versions:
        if address is None:
            raise click.UsageError("--versions is of one file: give its address")
        _versions(list(client.versions(address)), as_json=as_json)
        return
    if address is not None and not address.endswith("/"):
        # "charts" and "charts/approach" can only mean the folder, or one file.
        address = address + "/" if "/" not in address else address
    if address is not None:
        parse_address(address)
    if address is not None and not address.endswith("/"):
        listed = [client.facts(address)]
    else:
        listed = list(client.files(address, search=search, sort=sort))
    if as_json:
        print_json({"files": listed})
        return
    numbered = any(item["version"] is not None for item in listed)
    described = any(item["description"] for item in listed)
    rows = [
        (
            item["address"],
            *(["" if item["version"] is None else str(item["version"])] if numbered else []),
            "" if item["folder"] else size_text(item["size"]),
            (item["modified"] or "")[:16].replace("T", " "),
            item["media_type"] or "",
            *([item["description"] or ""] if described else []),
        )
        for item in listed
    ]
    columns = [("address", "left"), ("size", "right"), ("modified (UTC)", "left"), ("type", "left")]
    if numbered:
        columns.insert(1, ("version", "right"))
    if described:
        columns.append(("about", "left"))
    print_table(columns, rows)


def _versions(listed: list[dict[str, Any]], *, as_json: bool) -> None:
    if as_json:
        print_json({"versions": listed})
        return
    rows = [
        (
            str(item["version"]) + (" (newest)" if item["current"] else ""),
            size_text(item["size"]),
            item["put"][:16].replace("T", " "),
            item["by"] or "",
            item["sha256"][:16] + "…",
            item["description"] or "",
        )
        for item in listed
    ]
    columns = [
        ("version", "left"), ("size", "right"), ("put (UTC)", "left"), ("by", "left"), ("SHA-256", "left"),
        ("about", "left"),
    ]  # fmt: skip
    print_table(columns, rows)


@click.command()
@click.argument("address", type=ADDRESS)
@click.option(
    "--as", "recipient", metavar="RECIPIENT", help="The recipient to check, or 'anyone'; yourself when not given."
)
@click.option("--action", type=click.Choice(ACTIONS), default="read", show_default=True)
@click.option("--version", type=click.IntRange(min=1), help="Of this version of the file; else of the newest.")
@gives_json
@talks_to_service
def why(
    *, client: Client, address: str, recipient: str | None, action: str, version: int | None, as_json: bool
) -> None:
    """Explain whether RECIPIENT may do something with ADDRESS, and by which rules.

    The exit status is 0 when they may, and 3 when they may not.
    """
    decision = client.why(address, recipient, action, version)
    if as_json:
        print_json(decision)
    else:
        _say_why(decision, action)
    if not decision["allowed"]:
        sys.exit(_MAY_NOT)


def _say_why(decision: dict[str, Any], action: str) -> None:
    who = decision["recipient"] or "anyone, not signed in,"
    groups = f" ({', '.join(decision['groups'])})" if decision["groups"] else ""
    verdict = "may" if decision["allowed"] else "may not"
    console().print(Text(f"{who}{groups} {verdict} {action} {decision['address']}", style="bold"))
    spoke = [reason for reason in decision["reasons"] if reason["spoke"]]
    silent = [reason for reason in decision["reasons"] if not reason["spoke"]]
    if not decision["reasons"]:
        say("The rules are shown only to recipients who may manage the address.")
    elif not spoke:
        say("No rule applies, and what no rule allows is refused.")
    if decision["reasons"]:
        rows = [_reason(reason) for reason in spoke + silent]
        print_table([("", "left"), ("rule", "left"), ("line", "right"), ("because", "left")], rows)


def _reason(reason: dict[str, Any]) -> tuple[str | Text, ...]:
    if not reason["spoke"]:
        return Text("– silent", style="dim"), reason["rule"], str(reason["line"]), Text(reason["because"], style="dim")
    allows = reason["effect"] == "allow"
    mark = Text("+ allows", style="green") if allows else Text("× denies", style="red")
    return mark, reason["rule"], str(reason["line"]), reason["because"]


@click.command()
@click.argument("transfer", required=False)
@click.option("--follow", is_flag=True, help="Keep updating until Ctrl-C.")
@click.option("--limit", type=click.IntRange(1, 500), default=20, show_default=True)
@gives_json
@talks_to_service
def transfers(*, client: Client, transfer: str | None, follow: bool, limit: int, as_json: bool) -> None:
    """Show running transfers: your own, or those of files you manage.

    With the id TRANSFER, show that one, and its requests one by one.
    """
    if transfer is not None:
        if follow:
            raise click.UsageError("give a TRANSFER, or --follow for all of them, not both")
        _one(client, transfer, as_json=as_json)
        return
    listed = client.transfers(limit)
    if not follow:
        if as_json:
            print_json({"transfers": listed})
        else:
            console().print(_transfers(listed))
        return
    try:
        _follow(client, listed, as_json=as_json)
    except KeyboardInterrupt:
        return
    raise CommandFailed("the service ended the stream")


def _one(client: Client, transfer: str, *, as_json: bool) -> None:
    told, requests = client.transfer(transfer), client.transfer_requests(transfer)
    if as_json:
        print_json({**told, "each": requests})
        return
    console().print(_transfers([told]))
    if told["reason"]:
        say(f"It ended so: {told['reason']}.")
    if not requests:
        say("No request is told by itself: there was one, which brought all of it, or none has ended yet.")
        return
    say("")
    columns = [("began (UTC)", "left"), ("took", "right"), ("from byte", "right"), ("asked", "right"),
               ("arrived", "right"), ("", "left")]  # fmt: skip
    print_table(columns, [_request(one) for one in requests])


def _request(one: dict[str, Any]) -> tuple[str, ...]:
    took = (datetime.fromisoformat(one["ended"]) - datetime.fromisoformat(one["started"])).total_seconds()
    return (
        one["started"],
        f"{took * 1000:.0f} ms" if took < 1 else duration_text(took),
        f"{one['start']:,}",
        "–" if one["asked"] is None else size_text(one["asked"]),
        size_text(one["arrived"]),
        one["reason"] or "",
    )


def _follow(client: Client, listed: list[dict[str, Any]], *, as_json: bool) -> None:
    if as_json:
        for told in client.follow():
            say(json_text(told))
        return
    kept: OrderedDict[str, dict[str, Any]] = OrderedDict((item["id"], item) for item in reversed(listed))
    out = console()
    with Live(_latest(kept), console=out, refresh_per_second=8) as live:
        for shown in client.follow():
            kept[shown["id"]] = shown
            live.update(_latest(kept))
            if not out.is_terminal:
                out.print(_line(shown))


def _latest(kept: OrderedDict[str, dict[str, Any]]) -> Group:
    newest = [kept[key] for key in sorted(kept, reverse=True)[:_SHOWN]]
    return Group(_transfers(newest), Text("Ctrl-C ends this view; downloads go on.", style="dim"))


def _transfers(listed: list[dict[str, Any]]) -> Table:
    """Their ids, which other commands take, stand there where there is room for them."""
    columns = [("state", "left"), ("%", "right"), ("bytes", "right"), ("rate", "right"), ("left", "right"),
               ("who", "left"), ("address", "left")]  # fmt: skip
    rows = [_cells(item) for item in listed]
    if console().width >= _WIDE:
        columns.append(("id", "left"))
        rows = [(*row, item["id"]) for row, item in zip(rows, listed, strict=True)]
    return plain_table(columns, rows)


def _cells(item: dict[str, Any]) -> tuple[str | Text, ...]:
    running = item["state"] == "running"
    return (
        state_text(item["state"]),
        "–" if item["percent"] is None else ("≈ " if item["estimated_size"] else "") + f"{item['percent']}",
        f"{size_text(item['bytes'])} of {size_text(item['size'])}",
        f"{size_text(item['rate'])}/s" if running and item["rate"] else "",
        duration_text(item["seconds_left"]) if running and item["seconds_left"] is not None else "",
        item["recipient"] or "anyone",
        f"{item['address']}  ({item['entries_done']:,} of {item['entries']:,})" if item["entries"] else file_text(item),
    )


def _line(item: dict[str, Any]) -> Text:
    return Text("  ".join(str(cell) for cell in _cells(item) if str(cell)))
