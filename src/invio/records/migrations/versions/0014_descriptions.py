"""What a version is about, as whoever put it says; and which version a link opens."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    op.add_column("versions", sa.Column("description", sa.String(2000)))
    op.add_column("links", sa.Column("version", sa.Integer))


def downgrade() -> None:
    op.drop_column("links", "version")
    op.drop_column("versions", "description")
