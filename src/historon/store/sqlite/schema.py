"""How a ledger of SQLite gets its tables, and how an older one becomes a newer one."""

import sqlite3
from contextlib import closing

from historon.base.errors import StoreError
from historon.store.ledger.tables import OLDEST, SCHEMA, of_schema, script

__all__ = ["APPLICATION_ID", "check_schema", "migrate"]

APPLICATION_ID = 0x48535452  # "HSTR", so that `file` can tell what this database is


def check_schema(db: sqlite3.Connection, place: str) -> None:
    """StoreError when a ledger that cannot be written has another schema than this program's."""
    owner, version = (db.execute(f"PRAGMA {name}").fetchone()[0] for name in ("application_id", "user_version"))
    if owner != APPLICATION_ID or version > SCHEMA:
        migrate(db, place)  # tells what is wrong
    if version != SCHEMA:
        raise StoreError(
            f"{place}: the ledger has schema {version}, and is read-only, so it cannot be upgraded to {SCHEMA}",
            hint="copy the store's folder to a writable place, and open that",
        )


def migrate(db: sqlite3.Connection, place: str) -> None:
    """Bring the ledger to this program's schema; StoreError when that cannot be done."""
    version = db.execute("PRAGMA user_version").fetchone()[0]
    owner = db.execute("PRAGMA application_id").fetchone()[0]
    if owner != APPLICATION_ID and (version or db.execute("SELECT 1 FROM sqlite_schema").fetchone()):
        raise StoreError(f"{place}: this is a database of another program", hint="check the path of the store")
    if version > SCHEMA:
        raise StoreError(
            f"{place}: the ledger has schema {version}, this Historon knows up to {SCHEMA}",
            hint="a newer Historon wrote it: install that one here too",
        )
    if version == SCHEMA:
        return
    if version and (version < OLDEST or _shape(db) != _shape_of(version)):
        raise StoreError(
            f"{place}: the ledger is of a Historon that was never released; nothing was changed in it",
            hint="restore the versions that you need with that Historon, then make a new store here",
        )
    for number in range(version or OLDEST - 1, SCHEMA):
        # A savepoint would not cover the statements of a script: the script itself begins and ends the transaction.
        db.executescript(
            f"BEGIN IMMEDIATE; {script(number + 1)} PRAGMA application_id = {APPLICATION_ID};"
            f"PRAGMA user_version = {number + 1}; COMMIT;"
        )


def _shape(db: sqlite3.Connection) -> set[tuple[str, str]]:
    """Every table with its columns."""
    return set(
        db.execute(
            "SELECT m.name, c.name FROM sqlite_schema AS m, pragma_table_info(m.name) AS c "
            "WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite_%'"
        )
    )


def _shape_of(schema: int) -> set[tuple[str, str]]:
    with closing(of_schema(schema)) as db:
        return _shape(db)
