"""The history tells by which credential, and by which rules; a session by what it was opened."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.add_column("transfers", sa.Column("credential", sa.String(300)))
    op.add_column("transfers", sa.Column("decided_by", sa.String(300)))
    op.add_column("sessions", sa.Column("opened_by", sa.String(250)))


def downgrade() -> None:
    op.drop_column("sessions", "opened_by")
    op.drop_column("transfers", "decided_by")
    op.drop_column("transfers", "credential")
