"""The ledger's tables in PostgreSQL, with its types."""

import secrets
from collections.abc import Iterator

from historon.base.errors import StoreError
from historon.store.ledger.tables import SCHEMA, Table, tables
from historon.store.ledger.transactions import Database

__all__ = ["check_schema", "make_tables"]

_SAME_SINCE = 7  # in the schemas from this one on the tables are these
_NUMBERS = {"changes": 1, "families_after": 0, "schema": SCHEMA}
_TYPES = {"INTEGER": "BIGINT", "TEXT": 'TEXT COLLATE "C"', "BLOB": "BYTEA"}


def make_tables(db: Database, place: str) -> None:
    """Make the tables, empty, within the caller's transaction. StoreError when the database has any of them."""
    names = ", ".join(f"'{name}'" for name in tables())
    there = db.execute(
        "SELECT table_name FROM information_schema.tables "  # noqa: S608 (constants)
        f"WHERE table_schema = current_schema() AND table_name IN ({names}) ORDER BY table_name"
    ).fetchall()
    if len(there) == len(tables()):
        raise StoreError(f"{place}: there is already a store; nothing was changed")
    if there:
        raise StoreError(
            f"{place}: the database has a table {there[0][0]}, which is not Historon's; nothing was changed",
            hint="create a database for Historon only",
        )
    for name, table in tables().items():
        db.execute(f"CREATE TABLE {name} ({', '.join(_clauses(table))})")
        for index in table.indexes:
            db.execute(index)
    rows = [(name, b"%d" % number) for name, number in _NUMBERS.items()]
    rows += [("fingerprint_key", secrets.token_bytes(32)), ("writer", b"")]
    db.executemany("INSERT INTO meta (name, value) VALUES (?, ?)", rows)


def _clauses(table: Table) -> Iterator[str]:
    for name, kind, needed, default in table.columns:
        words = [name, _TYPES[kind], *(["NOT NULL"] if needed else []), *([f"DEFAULT {default}"] if default else [])]
        yield " ".join(words)
    yield f"PRIMARY KEY ({', '.join(table.key)})"
    yield from (f"UNIQUE ({', '.join(columns)})" for columns in table.unique)


def check_schema(db: Database, place: str) -> None:
    """StoreError when there is no store, or one of a newer program."""
    found = db.execute("SELECT to_regclass('meta') IS NOT NULL AND to_regclass('strand') IS NOT NULL").fetchone()
    if not found[0]:
        hint = "check the database name. A new, empty store is made with: historon new DIR --store-only"
        raise StoreError(f"{place}: there is no store here", hint=hint)
    (schema,) = db.execute("SELECT value FROM meta WHERE name = 'schema'").fetchone()
    if not _SAME_SINCE <= int(schema) <= SCHEMA:
        raise StoreError(
            f"{place}: the ledger has schema {int(schema)}, this Historon knows {_SAME_SINCE} to {SCHEMA}",
            hint="install the Historon here that wrote it",
        )
