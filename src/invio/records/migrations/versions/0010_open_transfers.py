"""The index of open transfers leaves out those that are sent in one write."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.drop_index("transfers_open", "transfers")
    where = sa.text("state != 'complete' AND requests > 0")
    op.create_index("transfers_open", "transfers", ["who"], sqlite_where=where)


def downgrade() -> None:
    op.drop_index("transfers_open", "transfers")
    op.create_index("transfers_open", "transfers", ["who"], sqlite_where=sa.text("state != 'complete'"))
