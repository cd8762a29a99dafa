"""Tokens that were ended are kept, so that whoever still has one is told so."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.add_column("tokens", sa.Column("ended", sa.Float))


def downgrade() -> None:
    op.drop_column("tokens", "ended")
