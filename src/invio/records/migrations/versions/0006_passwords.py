"""Passwords for the console."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("recipients", sa.Column("password", sa.String(200)))


def downgrade() -> None:
    op.drop_column("recipients", "password")
