"""Transfers are found by the tag that a link gives them."""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    op.create_index("transfers_tagged", "transfers", ["tag"], sqlite_where=sa.text("tag IS NOT NULL"))


def downgrade() -> None:
    op.drop_index("transfers_tagged", "transfers")
