"""Webhooks and their deliveries."""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"


def upgrade() -> None:
    op.create_table(
        "webhooks",
        sa.Column("id", sa.String(12), primary_key=True),
        sa.Column("url", sa.String(2000), nullable=False),
        sa.Column("label", sa.String(200), nullable=False),
        sa.Column("events", sa.String, nullable=False),
        sa.Column("made", sa.Float, nullable=False),
        sa.Column("by", sa.String(64)),
    )
    op.create_table(
        "webhook_deliveries",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("webhook", sa.String(12), nullable=False),
        sa.Column("event", sa.String(40), nullable=False),
        sa.Column("subject", sa.String(24), nullable=False),
        sa.Column("made", sa.Float, nullable=False),
        sa.Column("next", sa.Float, nullable=False),
        sa.Column("taken", sa.Float, nullable=False),
        sa.Column("attempts", sa.Integer, nullable=False),
        sa.Column("state", sa.String(12), nullable=False),
        sa.Column("said", sa.String(300)),
        sqlite_autoincrement=True,
    )
    op.create_index("webhook_deliveries_of", "webhook_deliveries", ["webhook", "id"])
    op.create_index(
        "webhook_deliveries_waiting", "webhook_deliveries", ["next"], sqlite_where=sa.text("state = 'waiting'")
    )


def downgrade() -> None:
    for name in ("webhooks_of_transfers", "webhooks_of_the_audit"):
        op.execute(f"DROP TRIGGER IF EXISTS {name}")
    op.drop_table("webhook_deliveries")
    op.drop_table("webhooks")
