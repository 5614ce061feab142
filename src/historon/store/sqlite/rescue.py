"""What is whole in a damaged store, made a store again; and what is not, named."""

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

from historon.base.errors import StoreError
from historon.store.ledger.contents import Contents
from historon.store.ledger.tables import tables
from historon.store.records import Part
from historon.store.sqlite.bare import BareLedger, Kept
from historon.store.sqlite.copying import copy_of, insert_rows
from historon.store.sqlite.transactions import LEDGER
from historon.store.verification import Damage

__all__ = ["rescue"]

_SENSELESS = (StoreError, ValueError, TypeError, IndexError, KeyError, sqlite3.Error, OverflowError)


def rescue(damaged: Path, folder: Path) -> list[Damage]:
    """Make a store in an empty folder of all that is whole in another; returns what is not, version by version.

    Raises StoreError where nothing of it can be read.
    """
    ledger = damaged / LEDGER
    try:
        copy_of(ledger, folder)
    except StoreError:
        pass
    else:
        return []
    lost: list[Damage] = []
    try:
        with closing(sqlite3.connect(f"{ledger.absolute().as_uri()}?mode=ro", uri=True)) as db:
            db.execute("SELECT count(*) FROM sqlite_schema").fetchone()
            return lost + _rescued(db, folder / LEDGER, lost)
    except _SENSELESS as exc:
        (folder / LEDGER).unlink(missing_ok=True)
        raise StoreError(f"{ledger}: no part of it can be read: {exc}", hint="take another copy") from exc


def _rescued(db: sqlite3.Connection, file: Path, lost: list[Damage]) -> list[Damage]:
    def rows(table: str, columns: Sequence[str]) -> Iterator[Sequence[Any]]:
        return iter(_readable(db, table, columns, lost))

    def insert(made: sqlite3.Connection, table: str, found: Any) -> None:
        kept = [row for row in found if len(row) == len(tables()[table].names)]
        if table == "meta" and not any(row[0] == "fingerprint_key" for row in kept):
            return  # it is a store of its own then
        insert_rows(made, table, kept)

    bare = BareLedger.make(file, rows, insert, whole=False)
    contents = Contents(db)

    def part_of(name: str, kept: Kept) -> Part:
        try:
            return Part(name, b"".join(contents.pieces(*kept.place)))
        except _SENSELESS as exc:
            raise StoreError(str(getattr(exc, "message", exc))) from exc

    return bare.fill(part_of)


def _readable(db: sqlite3.Connection, table: str, columns: Sequence[str], lost: list[Damage]) -> list[Sequence[Any]]:
    """The rows of a table before the first page that cannot be read, and those behind the last one."""
    key = tables()[table].key
    found: dict[Any, Sequence[Any]] = {}
    for way in ("", " DESC"):
        order = ", ".join(f"{one}{way}" for one in key)
        query = f"SELECT {', '.join((*key, *columns))} FROM {table} ORDER BY {order}"  # noqa: S608 (constants)
        try:
            for row in db.execute(query):
                found[row[: len(key)]] = row[len(key) :]
        except sqlite3.Error:
            if not way:
                lost.append(Damage("", None, f"table {table}", "a part of the ledger is unreadable"))
            continue
        break
    return list(found.values())
