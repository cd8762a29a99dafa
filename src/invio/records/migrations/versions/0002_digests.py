"""SHA-256 of contents; transfers that are not complete by who obtains them."""

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
    op.drop_index("transfers_by_who", "transfers")
    op.create_index("transfers_open", "transfers", ["who"], sqlite_where=sa.text("state != 'complete'"))


def downgrade() -> None:
    op.drop_index("transfers_open", "transfers")
    op.create_index("transfers_by_who", "transfers", ["who"])
    op.drop_table("digests")
