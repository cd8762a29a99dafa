"""What a bundle was asked for with, and which contents are deflated."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.add_column("bundles", sa.Column("options", sa.JSON, nullable=False, server_default="{}"))
    op.create_table(
        "deflated",
        sa.Column("tag", sa.String(64), primary_key=True),
        sa.Column("name", sa.String(64), nullable=False),
        sa.Column("size", sa.BigInteger),
    )


def downgrade() -> None:
    op.drop_table("deflated")
    op.drop_column("bundles", "options")
