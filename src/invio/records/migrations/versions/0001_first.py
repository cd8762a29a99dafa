"""The first tables: recipients, tokens, sessions, transfers, links, bundles, checksums."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "recipients",
        sa.Column("id", sa.String(64), primary_key=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("groups", sa.JSON, nullable=False),
        sa.Column("created", sa.Float, nullable=False),
    )
    op.create_table(
        "tokens",
        sa.Column("hash", sa.String(64), primary_key=True),
        sa.Column("recipient", sa.String(64), sa.ForeignKey("recipients.id"), nullable=False),
        sa.Column("label", sa.String(200), nullable=False),
        sa.Column("created", sa.Float, nullable=False),
    )
    op.create_table(
        "sessions",
        sa.Column("hash", sa.String(64), primary_key=True),
        sa.Column("recipient", sa.String(64), sa.ForeignKey("recipients.id"), nullable=False),
        sa.Column("created", sa.Float, nullable=False),
        sa.Column("expires", sa.Float, nullable=False),
    )
    op.create_table(
        "transfers",
        sa.Column("id", sa.String(24), primary_key=True),
        sa.Column("who", sa.String(200), nullable=False),
        sa.Column("recipient", sa.String(64)),
        sa.Column("link_id", sa.String(64)),
        sa.Column("via", sa.String(200)),
        sa.Column("tag", sa.String(64)),
        sa.Column("network", sa.String(64)),
        sa.Column("address", sa.String, nullable=False),
        sa.Column("etag", sa.String(64)),
        sa.Column("size", sa.BigInteger),
        sa.Column("state", sa.String(16), nullable=False),
        sa.Column("reason", sa.String(200)),
        sa.Column("started", sa.Float, nullable=False),
        sa.Column("updated", sa.Float, nullable=False),
        sa.Column("requests", sa.Integer, nullable=False),
        sa.Column("covered", sa.BigInteger, nullable=False),
        sa.Column("coverage", sa.JSON, nullable=False),
        sqlite_with_rowid=False,
    )
    op.create_index("transfers_by_who", "transfers", ["who"])
    op.create_table(
        "links",
        sa.Column("id", sa.String(64), primary_key=True),
        sa.Column("used", sa.Integer, nullable=False),
        sa.Column("revoked", sa.Float),
    )
    op.create_table(
        "bundles",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("recipient", sa.String(64)),
        sa.Column("name", sa.String(255), nullable=False),
        sa.Column("files", sa.JSON, nullable=False),
        sa.Column("created", sa.Float, nullable=False),
        sa.Column("expires", sa.Float, nullable=False),
    )
    op.create_table(
        "checksums",
        sa.Column("tag", sa.String(64), primary_key=True),
        sa.Column("crc", sa.BigInteger, nullable=False),
    )


def downgrade() -> None:
    for table in ("checksums", "bundles", "links", "transfers", "sessions", "tokens", "recipients"):
        op.drop_table(table)
