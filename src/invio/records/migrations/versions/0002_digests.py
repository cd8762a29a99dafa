"""SHA-256 of contents; running transfers by who has them."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.create_table(
        "digests",
        sa.Column("tag", sa.String(64), primary_key=True),
        sa.Column("sha256", sa.LargeBinary(32), nullable=False),
    )
    op.create_index("transfers_running", "transfers", ["who"], sqlite_where=sa.text("state = 'running'"))


def downgrade() -> None:
    op.drop_index("transfers_running", "transfers")
    op.drop_table("digests")
