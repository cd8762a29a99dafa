"""Links that count to the quotas of whoever had them made."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.add_column("links", sa.Column("quotas", sa.JSON))


def downgrade() -> None:
    op.drop_column("links", "quotas")
