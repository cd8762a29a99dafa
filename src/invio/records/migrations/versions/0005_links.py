"""What is known of links that were made here."""

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    for name, kind in _ADDED:
        op.add_column("links", sa.Column(name, kind))


def downgrade() -> None:
    for name, _ in reversed(_ADDED):
        op.drop_column("links", name)


_ADDED: list[tuple[str, Any]] = [
    ("made", sa.Float()),
    ("maker", sa.String(64)),
    ("address", sa.String()),
    ("scope", sa.String()),
    ("recipient", sa.String(64)),
    ("until", sa.BigInteger()),
    ("uses", sa.Integer()),
    ("key", sa.String(32)),
]
