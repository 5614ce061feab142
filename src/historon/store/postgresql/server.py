"""The store in a PostgreSQL database, which several machines may share."""

import hashlib
import sqlite3
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from historon.base.errors import OutsideError, StoreError
from historon.estate import SecretRef, StorePlace
from historon.store.interface import Store
from historon.store.ledger.store import LedgerStore
from historon.store.ledger.tables import insertion, tables
from historon.store.records import Approval, Copied
from historon.store.sqlite.bare import BareLedger
from historon.store.sqlite.copying import copy_of, follow, insert_rows, make_copy
from historon.store.sqlite.schema import migrate
from historon.store.sqlite.transactions import LEDGER

try:
    import psycopg

    from historon.store.postgresql.connection import ServerConnection, ServerTransactions
    from historon.store.postgresql.schema import check_schema, make_tables
except ImportError as exc:
    raise OutsideError(
        "this installation has no support for PostgreSQL", hint="install the extra postgresql: docs/install.md"
    ) from exc

__all__ = ["PostgresStore"]

_LOCAL = ("", "localhost", "127.0.0.1", "::1")
_CONNECT_S = 10
_AT_ONCE = 500  # rows
_LARGE = ("data", "bits", "more")  # columns of which digests are compared
_OF_THE_SERVER = ("writer", "schema")  # what `meta` says of this engine alone
# What points to something that is not there.
_CHECKS = {
    "version {1} of source {0} belongs to no source": (
        "SELECT version.source, number FROM version LEFT JOIN source ON source.id = version.source "
        "WHERE source.id IS NULL LIMIT 20"
    ),
    "the last good version of {0}, {1}, is missing": (
        "SELECT name, good FROM source LEFT JOIN version ON version.source = source.id AND version.number = good "
        "WHERE good IS NOT NULL AND version.source IS NULL LIMIT 20"
    ),
    "content {0}/{1} belongs to no strand": (
        "SELECT strand, position FROM content LEFT JOIN strand ON strand.id = strand WHERE strand.id IS NULL LIMIT 20"
    ),
}


class PostgresStore(LedgerStore):
    """A store in a database. One transaction writes at a time, whichever machine it comes from; readers never wait."""

    transactions: ServerTransactions

    def __init__(self, place: StorePlace, folder: Path, password: SecretRef | None, *, indexed: bool = True) -> None:
        """Open the store; `password` is fetched from the estate's `folder`.

        StoreError when the server cannot be reached, when there is no store, or when it is newer than this program.
        """
        self._opened_as = (place, folder, password)
        self._others: list[PostgresStore] = []
        transactions = _transactions(*self._opened_as)
        try:
            with transactions.doing("open the store"):
                check_schema(transactions.db, _told(place))
        except StoreError:
            transactions.db.close()
            raise
        super().__init__(transactions, indexed=indexed)

    @classmethod
    def create(
        cls, place: StorePlace, folder: Path, password: SecretRef | None, copy: Path | None = None
    ) -> "PostgresStore":
        """Make a new store in an empty database, empty or with all that a copy in a folder holds.

        StoreError when there is one, when the database has other tables, or when the copy is damaged.
        """
        transactions = _transactions(place, folder, password)
        db = transactions.db
        with closing(db), transactions.doing("make a store"):
            db.script("BEGIN")
            db.in_transaction = True  # or a connection that breaks would be made again in the middle of it
            make_tables(db, _told(place))
            if copy is not None:
                _fill_from(copy, db)
            db.script("COMMIT")
        return cls(place, folder, password)

    @property
    def place(self) -> str:
        return _told(self._opened_as[0])

    @property
    def folder(self) -> Path | None:
        return None

    def another(self) -> Store:
        """See Store: a connection of its own."""
        made = PostgresStore(*self._opened_as, indexed=self.indexed)
        self._others.append(made)
        return made

    def _lease_time(self, now: datetime) -> datetime:
        """The server's clock: those of the machines that share the store may differ."""
        (seconds,) = self._db.execute("SELECT extract(epoch FROM clock_timestamp())").fetchone()
        return datetime.fromtimestamp(float(seconds), UTC)

    def _is_dead(self, holder: str) -> bool:
        return False  # on whichever machine it is, its lease runs out

    def give_back(self) -> None:
        """See Store. The server does so by itself."""

    def set_aside(self) -> None:
        """See Store. The server has an administrator of its own."""

    def room(self) -> int | None:
        return None

    def size(self) -> int:
        sizes = " + ".join(f"pg_total_relation_size('{name}')" for name in tables())
        with self.transactions.doing("measure the store"):
            return int(self._db.execute(f"SELECT {sizes}").fetchone()[0])

    def check(self) -> list[str]:
        """See Store. Its pages are the server's to check; here is seen whether all that rows point to is there."""
        with self.transactions.doing("check the ledger"):
            return [
                words.format(*row) for words, query in _CHECKS.items() for row in self._db.execute(query).fetchall()
            ]

    def copy_to(self, target: Path, approve: Approval | None = None) -> Copied:
        """See Store. Of a copy that is there already only rows that differ are fetched."""

        def write(made: sqlite3.Connection, rows_into: _Writing) -> None:
            with self.transactions.doing("copy the store"), closing(_connected(*self._opened_as)) as db:
                db.execute("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
                migrate(made, str(target))
                for table in tables():
                    rows_into(db, made, table)
                made.commit()

        updated = follow(target, lambda made: write(made, _fetch_differing), approve)
        return updated or make_copy(target, lambda made: write(made, _fetch_all), approve)

    def write_ledger(self, file: Path) -> None:
        with self.transactions.doing("copy the ledger"), closing(_connected(*self._opened_as)) as db:
            db.execute("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
            BareLedger.make(file, lambda table, columns: _rows_of(db, table, columns), _fill)

    def close(self) -> None:
        """See Store. Those that were made for other threads are closed too."""
        self.transactions.db.close()
        for one in self._others:
            one.close()


def _told(place: StorePlace) -> str:
    """A place as messages call it: without the options of its URL."""
    return place.partition("?")[0]


def _transactions(place: StorePlace, folder: Path, password: SecretRef | None) -> ServerTransactions:
    try:
        return ServerTransactions(ServerConnection(lambda: _connected(place, folder, password)), _told(place))
    except psycopg.OperationalError as exc:
        why = (str(exc).strip().splitlines() or [""])[0].rpartition("failed: ")[2].removeprefix("FATAL:  ")
        hint = (
            "check that the server is up, and that this account may log in. TLS needs a certificate "
            "that is valid for its name"
        )
        raise StoreError(f"{_told(place)}: cannot open the store: {why}", hint=hint) from exc


def _connected(place: StorePlace, folder: Path, password: SecretRef | None) -> "psycopg.Connection[Any]":
    """A connection, over TLS whose certificate is verified unless the server is this machine itself."""
    url = urlsplit(place)
    options = dict(parse_qsl(url.query))
    host = options.get("host") or url.hostname or ""
    if host in _LOCAL or host.startswith("/"):
        tls: dict[str, Any] = {"sslmode": "prefer"}
    else:
        authority = options.get("sslrootcert")
        tls = {"sslmode": "verify-full", "sslrootcert": str(folder / authority) if authority else "system"}
    made = psycopg.connect(
        host=host or None,
        port=url.port,
        user=url.username,
        dbname=url.path.strip("/"),
        password=password.resolve(folder).reveal() if password else None,
        application_name="historon",
        connect_timeout=_CONNECT_S,
        keepalives_idle=10,
        keepalives_interval=5,
        keepalives_count=3,
        tcp_user_timeout=30_000,
        autocommit=True,
        **tls,
    )
    # Whatever schemas the role or the database names: nobody may put a table of another in front of ours.
    made.execute("SET search_path = public, pg_temp")
    made.prepare_threshold = None  # what is prepared in one session is not there in another, which a pooler may give
    return made


# ---- from one engine to another --------------------------------------------------------------------------------------


def _rows_of(db: "psycopg.Connection[Any]", table: str, columns: Sequence[str]) -> Iterator[tuple[Any, ...]]:
    with db.cursor(name=f"all_of_{table}") as cursor:
        cursor.itersize = _AT_ONCE
        cursor.execute(f"SELECT {', '.join(columns)} FROM {table}".encode())  # noqa: S608 (constants)
        yield from cursor


def _fill(made: sqlite3.Connection, table: str, rows: Iterable[Sequence[Any]]) -> None:
    """Write all rows of a table into a ledger of SQLite."""
    if table == "meta":
        rows = [(name, value) for name, value in rows if name not in _OF_THE_SERVER]
    insert_rows(made, table, rows)


_Writing = Callable[["psycopg.Connection[Any]", sqlite3.Connection, str], None]


def _fetch_all(db: "psycopg.Connection[Any]", made: sqlite3.Connection, table: str) -> None:
    _fill(made, table, _rows_of(db, table, tables()[table].names))


def _fetch_differing(db: "psycopg.Connection[Any]", made: sqlite3.Connection, table: str) -> None:
    """Make the rows of a table those of the server; of large columns their digests tell whether they differ."""
    if table == "meta":  # which is small, and not the same on both sides
        _fetch_all(db, made, table)
        return
    made.create_function("sha256", 1, _sha256, deterministic=True)
    keys = tables()[table].key
    others = [one for one in tables()[table].names if one not in keys]
    told = [*keys, *(f"sha256({one})" if one in _LARGE else one for one in others)]
    query = f"SELECT {', '.join(told)} FROM {table}"  # noqa: S608 (constants)
    ours = {row[: len(keys)]: row for row in made.execute(query)}
    wanted = []
    for row in _rows_of(db, table, told):
        key = row[: len(keys)]
        if ours.pop(key, None) != row:
            wanted.append(key)
    found = " AND ".join(f"{one} = ?" for one in keys)
    made.executemany(f"DELETE FROM {table} WHERE {found}", [*ours, *wanted])  # noqa: S608 (constants)
    for batch in _batches(wanted):
        made.executemany(insertion(table), _rows_by_key(db, table, batch))


def _sha256(data: bytes | None) -> bytes | None:
    return None if data is None else hashlib.sha256(data).digest()


def _batches(keys: Iterable[tuple[Any, ...]]) -> Iterator[list[tuple[Any, ...]]]:
    rest = iter(keys)
    while batch := list(islice(rest, _AT_ONCE)):
        yield batch


def _rows_by_key(
    db: "psycopg.Connection[Any]", table: str, keys: Sequence[tuple[Any, ...]]
) -> Iterator[tuple[Any, ...]]:
    """The rows with these keys, all there is of them."""
    one = f"({', '.join(['%s'] * len(tables()[table].key))})"
    some = ", ".join([one] * len(keys))
    query = (
        f"SELECT {', '.join(tables()[table].names)} FROM {table} WHERE ({', '.join(tables()[table].key)}) IN ({some})"  # noqa: S608 (constants)
    )
    yield from db.execute(query.encode(), [value for key in keys for value in key])


def _fill_from(copy: Path, db: ServerConnection) -> None:
    """Write all that a ledger of SQLite holds into empty tables."""
    with tempfile.TemporaryDirectory() as folder:
        copy_of(copy / LEDGER, Path(folder))  # as of one moment, verified, and of this program's schema
        with closing(sqlite3.connect(Path(folder) / LEDGER)) as ledger:
            migrate(ledger, str(copy))
            for table, described in tables().items():
                rows: Iterator[Any] = ledger.execute(f"SELECT {', '.join(described.names)} FROM {table}")  # noqa: S608 (constants)
                if table == "meta":
                    db.execute("DELETE FROM meta WHERE name NOT IN ('writer', 'schema')")
                    rows = ((name, _in_bytes(value)) for name, value in rows)
                while batch := list(islice(rows, _AT_ONCE)):
                    db.executemany(insertion(table), batch)


def _in_bytes(value: object) -> bytes:
    return value if isinstance(value, bytes) else str(value).encode()
