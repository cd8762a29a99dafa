"""The command line. Exit status: 0 done; 1 the service or the file said no; 2 wrong usage."""

from __future__ import annotations

import click

from invio import __version__
from invio.cli.fetching import bundle, fetch
from invio.cli.links import link
from invio.cli.looking import files, transfers, why
from invio.cli.options import Commands
from invio.cli.serving import demo, init, serve


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.version_option(__version__, package_name="invio")
def main() -> None:
    """Invio delivers files: by address, by sealed link, and as bundles."""


for command in (init, serve, demo, files, fetch, bundle, link, why, transfers):
    main.add_command(command)
