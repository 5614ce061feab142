"""The ledger's tables in PostgreSQL: those of docs/store-format.md, with its types."""

import secrets

from historon.base.errors import StoreError
from historon.store.ledger.tables import TABLES
from historon.store.ledger.transactions import Database

__all__ = ["check_schema", "make_tables"]

_SCHEMA = 7
_NUMBERS = {"changes": 1, "families_after": 0, "schema": _SCHEMA}
_TEXT = 'TEXT COLLATE "C"'
_TABLES = f"""
    CREATE TABLE meta (name {_TEXT} PRIMARY KEY, value BYTEA NOT NULL);
    CREATE TABLE source (
        id BIGINT PRIMARY KEY, name {_TEXT} NOT NULL UNIQUE, last_number BIGINT NOT NULL DEFAULT 0,
        good BIGINT, good_at BIGINT, confirmed_at BIGINT, outcome BIGINT, outcome_at BIGINT, note {_TEXT}
    );
    CREATE TABLE round (
        number BIGINT PRIMARY KEY, began BIGINT NOT NULL, ended BIGINT, trigger {_TEXT} NOT NULL,
        tally {_TEXT}, record BYTEA
    );
    CREATE TABLE outcome (
        round BIGINT NOT NULL, source BIGINT NOT NULL, outcome BIGINT NOT NULL, at BIGINT NOT NULL,
        took BIGINT NOT NULL, number BIGINT, note {_TEXT}, steps BYTEA, PRIMARY KEY (round, source)
    );
    CREATE TABLE version (
        source BIGINT NOT NULL, number BIGINT NOT NULL, at BIGINT NOT NULL, state BIGINT NOT NULL,
        size BIGINT NOT NULL, added BIGINT NOT NULL, removed BIGINT NOT NULL, parts BYTEA NOT NULL,
        held {_TEXT}, note {_TEXT}, families BYTEA, trees BYTEA, PRIMARY KEY (source, number)
    );
    CREATE INDEX version_by_change ON version (at) WHERE families IS NOT NULL;
    CREATE TABLE removed (
        source BIGINT NOT NULL, number BIGINT NOT NULL, at BIGINT, sha256 BYTEA, rule {_TEXT}, gone BIGINT,
        round BIGINT, PRIMARY KEY (source, number)
    );
    CREATE INDEX removed_by_round ON removed (round) WHERE round IS NOT NULL;
    CREATE TABLE strand (
        id BIGINT PRIMARY KEY, source BIGINT NOT NULL, name {_TEXT} NOT NULL,
        first BIGINT NOT NULL DEFAULT 0, next BIGINT NOT NULL DEFAULT 0, stored BIGINT NOT NULL DEFAULT 0,
        UNIQUE (source, name)
    );
    CREATE INDEX strand_by_name ON strand (name);
    CREATE TABLE content (
        id BIGINT PRIMARY KEY, strand BIGINT NOT NULL, position BIGINT NOT NULL, base_strand BIGINT, base BIGINT,
        size BIGINT NOT NULL, encoding BIGINT NOT NULL, sha256 BYTEA NOT NULL, data BYTEA NOT NULL,
        UNIQUE (strand, position)
    );
    CREATE INDEX content_by_base ON content (base_strand) WHERE base_strand IS NOT NULL;
    CREATE TABLE bundle (
        id BIGINT PRIMARY KEY, strand BIGINT NOT NULL, first BIGINT NOT NULL, data BYTEA NOT NULL,
        UNIQUE (strand, first)
    );
    CREATE TABLE block (
        id BIGINT PRIMARY KEY, strand BIGINT NOT NULL, sha256 BYTEA NOT NULL, data BYTEA NOT NULL,
        UNIQUE (strand, sha256)
    );
    CREATE TABLE memory (
        source BIGINT NOT NULL, topic {_TEXT} NOT NULL, text {_TEXT} NOT NULL, PRIMARY KEY (source, topic)
    );
    CREATE TABLE signature (
        source BIGINT PRIMARY KEY, first BIGINT NOT NULL, bits BYTEA NOT NULL, more BYTEA NOT NULL
    );
    CREATE TABLE pending (
        id BIGINT PRIMARY KEY, channel {_TEXT} NOT NULL, due BIGINT NOT NULL, round BIGINT, event BYTEA NOT NULL
    );
    CREATE TABLE notice (
        number BIGINT PRIMARY KEY, channel {_TEXT} NOT NULL, at BIGINT NOT NULL, fate BIGINT NOT NULL,
        tries BIGINT NOT NULL DEFAULT 0, next BIGINT, subject {_TEXT} NOT NULL, letter BYTEA NOT NULL,
        answer {_TEXT}, remaining {_TEXT}
    );
    CREATE INDEX notice_by_next ON notice (next) WHERE next IS NOT NULL;
"""


def make_tables(db: Database, place: str) -> None:
    """Make the tables, empty, within the caller's transaction. StoreError when the database has any of them."""
    names = ", ".join(f"'{name}'" for name in TABLES)
    there = db.execute(
        "SELECT table_name FROM information_schema.tables "  # noqa: S608 (constants)
        f"WHERE table_schema = current_schema() AND table_name IN ({names}) ORDER BY table_name"
    ).fetchall()
    if len(there) == len(TABLES):
        raise StoreError(f"{place}: there is already a store; nothing was changed")
    if there:
        raise StoreError(
            f"{place}: the database has a table {there[0][0]}, which is not Historon's; nothing was changed",
            hint="create a database for Historon only",
        )
    db.execute(_TABLES)
    rows = [(name, b"%d" % number) for name, number in _NUMBERS.items()]
    rows += [("fingerprint_key", secrets.token_bytes(32)), ("writer", b"")]
    db.executemany("INSERT INTO meta (name, value) VALUES (?, ?)", rows)


def check_schema(db: Database, place: str) -> None:
    """StoreError when there is no store, or one of a newer program."""
    found = db.execute("SELECT to_regclass('meta') IS NOT NULL AND to_regclass('strand') IS NOT NULL").fetchone()
    if not found[0]:
        hint = "check the database name. A new, empty store is made with: historon new DIR --store-only"
        raise StoreError(f"{place}: there is no store here", hint=hint)
    (schema,) = db.execute("SELECT value FROM meta WHERE name = 'schema'").fetchone()
    if int(schema) != _SCHEMA:
        raise StoreError(
            f"{place}: the ledger has schema {int(schema)}, this Historon knows {_SCHEMA}",
            hint="a newer Historon wrote it: install that one here too",
        )
