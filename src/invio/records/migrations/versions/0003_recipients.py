"""Recipients that are disabled; tokens that end, and when each was last used."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.add_column("recipients", sa.Column("disabled", sa.Float))
    op.add_column("tokens", sa.Column("expires", sa.Float))
    op.add_column("tokens", sa.Column("used", sa.Float))


def downgrade() -> None:
    op.drop_column("tokens", "used")
    op.drop_column("tokens", "expires")
    op.drop_column("recipients", "disabled")
