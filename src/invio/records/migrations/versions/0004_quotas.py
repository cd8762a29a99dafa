"""What was obtained under quotas."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.create_table(
        "quota_uses",
        sa.Column("quota", sa.String(200), primary_key=True),
        sa.Column("transfer", sa.String(24), primary_key=True),
        sa.Column("who", sa.String(200), nullable=False),
        sa.Column("at", sa.Float, nullable=False),
        sa.Column("files", sa.Integer, nullable=False),
        sa.Column("taken", sa.BigInteger, nullable=False),
        sa.Column("reserved", sa.BigInteger, nullable=False),
    )
    op.create_index("quota_uses_by_who", "quota_uses", ["who", "quota", "at"])


def downgrade() -> None:
    op.drop_index("quota_uses_by_who", "quota_uses")
    op.drop_table("quota_uses")
