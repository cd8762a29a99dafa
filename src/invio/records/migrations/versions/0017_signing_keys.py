"""The keys that sign receipts."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    op.create_table(
        "signing_keys",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("raw", sa.LargeBinary(32), nullable=False),
        sa.Column("created", sa.Float, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("signing_keys")
