"""What is known of contents lies in the order of its tags, in one tree a table instead of two."""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"

_CONTENTS = {"checksums": "crc", "digests": "sha256"}


def upgrade() -> None:
    _made_anew(with_rowid=False)


def downgrade() -> None:
    _made_anew(with_rowid=True)


def _made_anew(*, with_rowid: bool) -> None:
    for table, column in _CONTENTS.items():
        op.rename_table(table, f"{table}_before")
        op.create_table(
            table,
            sa.Column("tag", sa.String(64), primary_key=True),
            sa.Column(column, sa.BigInteger() if column == "crc" else sa.LargeBinary(32), nullable=False),
            sqlite_with_rowid=with_rowid,
        )
        op.execute(f"INSERT INTO {table} SELECT tag, {column} FROM {table}_before ORDER BY tag")
        op.drop_table(f"{table}_before")
