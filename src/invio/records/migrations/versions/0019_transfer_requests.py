"""The requests of a transfer, one by one."""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"


def upgrade() -> None:
    op.create_table(
        "transfer_requests",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("transfer", sa.String(24), nullable=False),
        sa.Column("began", sa.Float, nullable=False),
        sa.Column("ended", sa.Float, nullable=False),
        sa.Column("start", sa.BigInteger, nullable=False),
        sa.Column("asked", sa.BigInteger),
        sa.Column("arrived", sa.BigInteger, nullable=False),
        sa.Column("reason", sa.String(200)),
    )
    op.create_index("transfer_requests_of", "transfer_requests", ["transfer"])


def downgrade() -> None:
    op.drop_table("transfer_requests")
