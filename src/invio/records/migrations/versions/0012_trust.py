"""Whom a link was made for, and attempts to sign in that all processes count."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.add_column("transfers", sa.Column("made_for", sa.String(64)))
    op.add_column("transfers", sa.Column("held_by", sa.Integer))
    op.create_table(
        "facts",
        sa.Column("name", sa.String(80), primary_key=True),
        sa.Column("value", sa.String(200), nullable=False),
    )
    op.create_table(
        "archive_files",
        sa.Column("archive", sa.String(64), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("address", sa.String, nullable=False),
        sa.Column("begins", sa.BigInteger, nullable=False),
        sa.Column("ends", sa.BigInteger, nullable=False),
        sa.Index("archive_files_by_address", "address"),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "archives",
        sa.Column("archive", sa.String(64), primary_key=True),
        sa.Column("noted", sa.Float, nullable=False),
    )
    op.create_table(
        "sign_in_attempts",
        sa.Column("key", sa.String(120), primary_key=True),
        sa.Column("attempts", sa.Integer, nullable=False),
        sa.Column("last", sa.Float, nullable=False),
    )
    op.create_table(
        "audit_lines",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("at", sa.Float, nullable=False, index=True),
        sa.Column("event", sa.String(40), nullable=False),
        sa.Column("by", sa.String(64)),
        sa.Column("network", sa.String(64)),
        sa.Column("credential", sa.String(200)),
        sa.Column("about", sa.String, nullable=False),
    )
    op.create_table(
        "known_devices",
        sa.Column("hash", sa.String(64), primary_key=True),
        sa.Column("recipient", sa.String(64), primary_key=True),
        sa.Column("used", sa.Float, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("known_devices")
    op.drop_table("audit_lines")
    op.drop_table("sign_in_attempts")
    op.drop_table("archives")
    op.drop_table("archive_files")
    op.drop_table("facts")
    op.drop_column("transfers", "held_by")
    op.drop_column("transfers", "made_for")
