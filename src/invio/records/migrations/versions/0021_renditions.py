"""The history tells of which rendition a transfer was."""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"


def upgrade() -> None:
    op.add_column("transfers", sa.Column("rendition", sa.String(32)))


def downgrade() -> None:
    op.drop_column("transfers", "rendition")
