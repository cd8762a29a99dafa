"""`invio quotas`: how much of a quota is used, and what administrators grant or reset."""

from __future__ import annotations

from typing import Any

import click

from invio.cli.links import AMOUNT
from invio.cli.options import gives_json, print_json, talks_to_service
from invio.cli.output import print_table, say
from invio.client import Client
from invio.core.figures import size_text
from invio.core.rules.quotas import period_text


@click.group()
def quotas() -> None:
    """Show quotas and how much of them is used; grant more, or reset one."""


@quotas.command()
@click.argument("recipient", required=False)
@gives_json
@talks_to_service
def show(*, client: Client, recipient: str | None, as_json: bool) -> None:
    """Show your quotas; for administrators, those of RECIPIENT."""
    _tell(client.quotas(recipient), as_json=as_json)


@quotas.command()
@click.argument("recipient")
@click.argument("rule")
@click.option("--files", type=click.IntRange(min=1), default=None, help="How many more files.")
@click.option("--bytes", "size", type=AMOUNT, help="How many more bytes: 5000000, or 5M.")
@gives_json
@talks_to_service
def grant(*, client: Client, recipient: str, rule: str, files: int | None, size: int | None, as_json: bool) -> None:
    """Let RECIPIENT have more than the quota of RULE allows, for as long as one of its periods. For administrators."""
    if files is None and size is None:
        raise click.UsageError("give --files or --bytes")
    _tell(client.grant_quota(recipient, rule, files=files or 0, size=size or 0), as_json=as_json)


@quotas.command()
@click.argument("recipient")
@click.argument("rule")
@gives_json
@talks_to_service
def reset(*, client: Client, recipient: str, rule: str, as_json: bool) -> None:
    """Reset the quota of RULE for RECIPIENT: earlier downloads no longer count. For administrators."""
    _tell(client.reset_quota(recipient, rule), as_json=as_json)


def _tell(listed: list[dict[str, Any]], *, as_json: bool) -> None:
    if as_json:
        print_json({"quotas": listed})
        return
    if not listed:
        say("No rule with a quota applies.")
        return
    rows = [
        (
            one["rule"],
            period_text(one["seconds"]),
            "–" if one["files"] is None else f"{one['used_files']} of {one['files']}",
            "–" if one["bytes"] is None else f"{_bytes(one['used_bytes'])} of {size_text(one['bytes'])}",
        )
        for one in listed
    ]
    print_table([("rule", "left"), ("per", "left"), ("files", "right"), ("bytes", "right")], rows)


def _bytes(size: int) -> str:
    """Less than nothing is used where more was granted than taken."""
    return f"−{size_text(-size)}" if size < 0 else size_text(size)
