"""The tables. Times are Unix seconds (UTC); sizes and counts of bytes are integers."""

from __future__ import annotations

import sqlalchemy as sa

metadata = sa.MetaData()

recipients = sa.Table(
    "recipients",
    metadata,
    sa.Column("id", sa.String(64), primary_key=True),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("groups", sa.JSON, nullable=False),
    sa.Column("created", sa.Float, nullable=False),
    sa.Column("password", sa.String(200)),  # its Argon2id hash
    sa.Column("disabled", sa.Float),  # since when; its tokens and sessions are good for nothing then
)

# A token is 32 random bytes; their SHA-256 is kept. A slow hash would add nothing: there is no
# guessing 256 random bits.
tokens = sa.Table(
    "tokens",
    metadata,
    sa.Column("hash", sa.String(64), primary_key=True),
    sa.Column("recipient", sa.String(64), sa.ForeignKey("recipients.id"), nullable=False),
    sa.Column("label", sa.String(200), nullable=False),
    sa.Column("created", sa.Float, nullable=False),
    sa.Column("expires", sa.Float),
    sa.Column("used", sa.Float),  # last, to the minute
    sa.Column("ended", sa.Float),  # by somebody, before it expired; it is kept to tell whoever has it
)

sessions = sa.Table(
    "sessions",
    metadata,
    sa.Column("hash", sa.String(64), primary_key=True),
    sa.Column("recipient", sa.String(64), sa.ForeignKey("recipients.id"), nullable=False),
    sa.Column("created", sa.Float, nullable=False),
    sa.Column("expires", sa.Float, nullable=False),
    sa.Column("opened_by", sa.String(250)),  # the token or the password that was given for it, in words
)

# What the records know of themselves and of stores: ids, and the clock as it was last.
facts = sa.Table(
    "facts",
    metadata,
    sa.Column("name", sa.String(80), primary_key=True),
    sa.Column("value", sa.String(200), nullable=False),
)

# What was changed of who may have what, and who signed in.
audit_lines = sa.Table(
    "audit_lines",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
    sa.Column("at", sa.Float, nullable=False, index=True),
    sa.Column("event", sa.String(40), nullable=False),
    sa.Column("by", sa.String(64)),
    sa.Column("network", sa.String(64)),
    sa.Column("credential", sa.String(200)),
    sa.Column("about", sa.String, nullable=False),
)

# Attempts to sign in that did not succeed, by what they count for (see invio.core.sign_ins).
sign_in_attempts = sa.Table(
    "sign_in_attempts",
    metadata,
    sa.Column("key", sa.String(120), primary_key=True),
    sa.Column("attempts", sa.Integer, nullable=False),
    sa.Column("last", sa.Float, nullable=False),
)

# Devices that signed in before, by the SHA-256 of what their cookie holds.
known_devices = sa.Table(
    "known_devices",
    metadata,
    sa.Column("hash", sa.String(64), primary_key=True),
    sa.Column("recipient", sa.String(64), primary_key=True),
    sa.Column("used", sa.Float, nullable=False),
)

# One recipient obtaining one file, over as many requests as it takes. `who` is what requests are
# joined by; `covered` is the length of the union of `coverage`, a list of [start, stop].
transfers = sa.Table(
    "transfers",
    metadata,
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
    sa.Column("version", sa.Integer),
    # By what the caller was known, and what decided: in words.
    sa.Column("credential", sa.String(300)),
    sa.Column("decided_by", sa.String(300)),
    sa.Column("made_for", sa.String(64)),  # whom the link it was had by says that it was made for
    sa.Column("held_by", sa.Integer),  # the process that delivers it, by its number among those that serve
    sa.Column("rendition", sa.String(32)),  # which one of the image it was, and not the image itself
    # What is complete is looked for no more, so the index stays small; and a file that leaves in one write has
    # no request in its line until it has ended, so that it is never in it if it ends well.
    sa.Index("transfers_open", "who", sqlite_where=sa.text("state != 'complete' AND requests > 0")),
    # What is followed by those who hold a link; few lines have a tag.
    sa.Index("transfers_tagged", "tag", sqlite_where=sa.text("tag IS NOT NULL")),
    # Ids grow with time, so the table itself is in their order.
    sqlite_with_rowid=False,
)

# The requests of a transfer that took more than one, or whose one was not sent whole.
transfer_requests = sa.Table(
    "transfer_requests",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
    sa.Column("transfer", sa.String(24), nullable=False),
    sa.Column("began", sa.Float, nullable=False),
    sa.Column("ended", sa.Float, nullable=False),
    sa.Column("start", sa.BigInteger, nullable=False),
    sa.Column("asked", sa.BigInteger),
    sa.Column("arrived", sa.BigInteger, nullable=False),
    sa.Column("reason", sa.String(200)),
    sa.Index("transfer_requests_of", "transfer"),
)

# What is counted or ended by a link's id.
links = sa.Table(
    "links",
    metadata,
    sa.Column("id", sa.String(64), primary_key=True),
    sa.Column("used", sa.Integer, nullable=False),
    sa.Column("revoked", sa.Float),
    # What is known of one that was made here.
    sa.Column("made", sa.Float),
    sa.Column("maker", sa.String(64)),
    sa.Column("address", sa.String),
    sa.Column("scope", sa.String),
    sa.Column("recipient", sa.String(64)),
    sa.Column("until", sa.BigInteger),
    sa.Column("uses", sa.Integer),
    sa.Column("key", sa.String(32)),
    sa.Column("quotas", sa.JSON),  # names of its maker's quotas that count what is had by it; None: there are none
    sa.Column("version", sa.Integer),
    sa.Column("last", sa.Float),  # when it was used last
)

# What one transfer takes of one quota: files, bytes that were taken, and bytes that requests under way may take.
quota_uses = sa.Table(
    "quota_uses",
    metadata,
    sa.Column("quota", sa.String(200), primary_key=True),
    sa.Column("transfer", sa.String(24), primary_key=True),
    sa.Column("who", sa.String(200), nullable=False),
    sa.Column("at", sa.Float, nullable=False),
    sa.Column("files", sa.Integer, nullable=False),
    sa.Column("taken", sa.BigInteger, nullable=False),
    sa.Column("reserved", sa.BigInteger, nullable=False),
    sa.Index("quota_uses_by_who", "who", "quota", "at"),
)

bundles = sa.Table(
    "bundles",
    metadata,
    sa.Column("id", sa.String(32), primary_key=True),
    sa.Column("recipient", sa.String(64)),
    sa.Column("name", sa.String(255), nullable=False),
    sa.Column("files", sa.JSON, nullable=False),
    sa.Column("created", sa.Float, nullable=False),
    sa.Column("expires", sa.Float, nullable=False),
    sa.Column("options", sa.JSON, nullable=False, server_default="{}"),
    sa.Column("versions", sa.JSON, nullable=False, server_default="{}"),  # by address, as first planned
)

# One immutable content of a file in a managed store, kept there under `name`. A removed one keeps its line.
versions = sa.Table(
    "versions",
    metadata,
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
    sa.Column("description", sa.String(2000)),
    sqlite_with_rowid=False,
)

# What is in an archive that was planned, by its tag: each file, and which of the archive's bytes it is.
archive_files = sa.Table(
    "archive_files",
    metadata,
    sa.Column("archive", sa.String(64), primary_key=True),
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("address", sa.String, nullable=False),
    sa.Column("begins", sa.BigInteger, nullable=False),
    sa.Column("ends", sa.BigInteger, nullable=False),
    sa.Index("archive_files_by_address", "address"),
    sqlite_with_rowid=False,
)

# Archives all of whose files are written down, and when.
archives = sa.Table(
    "archives",
    metadata,
    sa.Column("archive", sa.String(64), primary_key=True),
    sa.Column("noted", sa.Float, nullable=False),
)

# Transfers that somebody wants to end, for the process that delivers them.
endings = sa.Table(
    "endings",
    metadata,
    sa.Column("transfer", sa.String(24), primary_key=True),
    sa.Column("by", sa.String(64), nullable=False),
    sa.Column("at", sa.Float, nullable=False),
)

# What signs receipts; the newest signs, the others prove what they signed.
signing_keys = sa.Table(
    "signing_keys",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
    sa.Column("raw", sa.LargeBinary(32), nullable=False),  # a private Ed25519 key
    sa.Column("created", sa.Float, nullable=False),
)

# Addresses that are told of events, and what each is to be told (see invio.records.webhooks).
webhooks = sa.Table(
    "webhooks",
    metadata,
    sa.Column("id", sa.String(12), primary_key=True),
    sa.Column("url", sa.String(2000), nullable=False),
    sa.Column("label", sa.String(200), nullable=False),
    sa.Column("events", sa.String, nullable=False),  # JSON, as a trigger reads it
    sa.Column("made", sa.Float, nullable=False),
    sa.Column("by", sa.String(64)),
)

# Numbers are not given again: whoever is told knows a delivery by its number.
webhook_deliveries = sa.Table(
    "webhook_deliveries",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
    sa.Column("webhook", sa.String(12), nullable=False),
    sa.Column("event", sa.String(40), nullable=False),
    sa.Column("subject", sa.String(24), nullable=False),
    sa.Column("made", sa.Float, nullable=False),
    sa.Column("next", sa.Float, nullable=False),
    sa.Column("taken", sa.Float, nullable=False),  # until when a process has it
    sa.Column("attempts", sa.Integer, nullable=False),
    sa.Column("state", sa.String(12), nullable=False),
    sa.Column("said", sa.String(300)),
    sa.Index("webhook_deliveries_of", "webhook", "id"),
    sa.Index("webhook_deliveries_waiting", "next", sqlite_where=sa.text("state = 'waiting'")),
    sqlite_autoincrement=True,
)

# CRC-32 of a content, by the tag that changes with it.
checksums = sa.Table(
    "checksums",
    metadata,
    sa.Column("tag", sa.String(64), primary_key=True),
    sa.Column("crc", sa.BigInteger, nullable=False),
    sqlite_with_rowid=False,
)

# SHA-256 of a content, by the tag that changes with it.
digests = sa.Table(
    "digests",
    metadata,
    sa.Column("tag", sa.String(64), primary_key=True),
    sa.Column("sha256", sa.LargeBinary(32), nullable=False),
    sqlite_with_rowid=False,
)

# What the deflated form of a content is called and how long it is, by the tag that changes with the content; a
# length of null where it is no gain.
deflated = sa.Table(
    "deflated",
    metadata,
    sa.Column("tag", sa.String(64), primary_key=True),
    sa.Column("name", sa.String(64), nullable=False),
    sa.Column("size", sa.BigInteger),
)
