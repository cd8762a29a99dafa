"""The command line. Exit status: 0 done; 1 the service or the file said no; 2 wrong usage."""

from __future__ import annotations

import click

from invio.cli.commands import Commands
from invio.core.version import VERSION


@click.group(
    cls=Commands,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110},
    places={
        "init": "invio.cli.serving",
        "serve": "invio.cli.serving",
        "demo": "invio.cli.serving",
        "check": "invio.cli.checking",
        "files": "invio.cli.looking",
        "put": "invio.cli.putting",
        "remove": "invio.cli.putting",
        "renew": "invio.cli.putting",
        "fetch": "invio.cli.fetching",
        "bundle": "invio.cli.fetching",
        "link": "invio.cli.links",
        "why": "invio.cli.looking",
        "rules": "invio.cli.rules",
        "recipients": "invio.cli.managing",
        "quotas": "invio.cli.quotas",
        "keys": "invio.cli.managing",
        "webhooks": "invio.cli.webhooks",
        "transfers": "invio.cli.looking",
        "receipt": "invio.cli.receipts",
        "history": "invio.cli.history",
        "audit": "invio.cli.history",
        "scan": "invio.cli.keeping",
        "verify": "invio.cli.keeping",
        "backup": "invio.cli.backing_up",
        "restore": "invio.cli.backing_up",
    },
)
@click.version_option(VERSION, package_name="invio")
def main() -> None:
    """Invio delivers files: by address, by sealed link, and as bundles."""
