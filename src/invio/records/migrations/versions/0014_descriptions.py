"""What a version is about, as whoever put it says."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    op.add_column("versions", sa.Column("description", sa.String(2000)))


def downgrade() -> None:
    op.drop_column("versions", "description")
