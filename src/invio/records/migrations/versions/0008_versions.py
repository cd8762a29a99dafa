"""Versions of files in managed stores; which version was obtained; which are in a bundle."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.create_table(
        "versions",
        sa.Column("store", sa.String(32), primary_key=True),
        sa.Column("path", sa.String, primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(64), nullable=False),
        sa.Column("size", sa.BigInteger, nullable=False),
        sa.Column("sha256", sa.LargeBinary(32), nullable=False),
        sa.Column("crc", sa.BigInteger, nullable=False),
        sa.Column("media_type", sa.String(255)),
        sa.Column("at", sa.Float, nullable=False),
        sa.Column("by", sa.String(64)),
        sa.Column("removed", sa.Float),
        sa.Column("removed_by", sa.String(64)),
        sqlite_with_rowid=False,
    )
    op.add_column("transfers", sa.Column("version", sa.Integer))
    op.add_column("bundles", sa.Column("versions", sa.JSON, nullable=False, server_default="{}"))


def downgrade() -> None:
    op.drop_column("bundles", "versions")
    op.drop_column("transfers", "version")
    op.drop_table("versions")
