"""A transfer may be ended by hand, by whichever process is asked; and it is known when a link was used last."""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"


def upgrade() -> None:
    op.create_table(
        "endings",
        sa.Column("transfer", sa.String(24), primary_key=True),
        sa.Column("by", sa.String(64), nullable=False),
        sa.Column("at", sa.Float, nullable=False),
    )
    op.add_column("links", sa.Column("last", sa.Float))


def downgrade() -> None:
    op.drop_column("links", "last")
    op.drop_table("endings")
