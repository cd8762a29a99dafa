"""Which versions something still needs: what the records know of transfers, links and bundles."""

from __future__ import annotations

import time

import sqlalchemy as sa

from invio.records.tables import bundles, links, transfers

Needed = set[tuple[str, int]]


def needed_versions(connection: sa.Connection, store: str) -> Needed:
    """The versions (path and number) of a store that running transfers, unexpired links and bundles need."""
    now, begin = time.time(), f"{store}/"
    needed: Needed = set()
    running = sa.select(transfers.c.address, transfers.c.version).where(
        transfers.c.state == "running", transfers.c.version.is_not(None), transfers.c.address.startswith(begin)
    )
    linked = sa.select(links.c.address, links.c.version).where(
        links.c.version.is_not(None),
        links.c.revoked.is_(None),
        sa.or_(links.c.until.is_(None), links.c.until > now),
    )
    for query in (running, linked):
        for address, number in connection.execute(query):
            if address is not None and address.startswith(begin):
                needed.add((address[len(begin) :], number))
    for (held,) in connection.execute(sa.select(bundles.c.versions).where(bundles.c.expires > now)):
        for address, number in (held or {}).items():
            if address.startswith(begin):
                needed.add((address[len(begin) :], int(number)))
    return needed
