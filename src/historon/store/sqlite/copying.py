"""A second place for all versions: a whole store, which nothing half written ever takes the place of."""

import os
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from historon.base.disk import sync_folder
from historon.base.errors import StoreError
from historon.store.encoding import Encoding
from historon.store.ledger.contents import Contents
from historon.store.ledger.tables import insertion, tables
from historon.store.ledger.versions import places_in
from historon.store.records import Approval, Copied
from historon.store.sqlite.succession import LedgerDigests, check_same, check_successor
from historon.store.sqlite.transactions import LEDGER

__all__ = ["copy_of", "follow", "insert_rows", "make_copy"]

_COMING = f"{LEDGER}.coming"
_PAGES = 2000  # that are copied at a time; writers come in between


def copy_of(ledger: Path, target: Path, approve: Approval | None = None) -> Copied:
    """Make `target` a copy of the store with this ledger, see `make_copy`; may run while the store is written to.

    Where there is a copy already only what differs is written, in one transaction.
    """
    if target.is_dir() and target.samefile(ledger.parent):
        raise StoreError(f"{target} is the store itself", hint="name another folder, on another disk")
    if (target / LEDGER).exists():
        with _told_of(target):
            updated = _update(ledger, target, approve)
            if updated is not None:
                return updated

    def fill(made: sqlite3.Connection) -> None:
        with closing(_opened(ledger)) as store:
            store.backup(made, pages=_PAGES)

    return make_copy(target, fill, approve)


def follow(target: Path, patch: Callable[[sqlite3.Connection], None], approve: Approval | None = None) -> Copied | None:
    """Bring a copy up to date with a store of another engine; None where all of it is to be written again.

    `patch` makes the rows of a ledger, which are those of the copy at first, those of the store. Raises StoreError, and
    leaves the copy as it was, as `make_copy` does.
    """
    if not (target / LEDGER).exists():
        return None
    coming = target / _COMING
    with _told_of(target):
        try:
            with closing(_new_ledger(coming)) as made:
                with closing(_opened(target / LEDGER)) as before:
                    before.backup(made)
                made.execute("PRAGMA journal_mode = DELETE")  # one file, as nobody else looks at it
                patch(made)
            return _update(coming, target, approve)
        finally:
            with suppress(OSError):  # what went wrong before is what counts
                coming.unlink(missing_ok=True)


def _new_ledger(file: Path) -> sqlite3.Connection:
    """An empty ledger that nobody else can read, in the place of one that was not brought to its end."""
    file.unlink(missing_ok=True)
    os.close(os.open(file, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600))
    return sqlite3.connect(f"{file.absolute().as_uri()}?mode=rw", uri=True)


def make_copy(target: Path, fill: Callable[[sqlite3.Connection], None], approve: Approval | None = None) -> Copied:
    """Make `target` a copy of the store whose ledger `fill` writes into a new one.

    The copy is never made worse. Whatever differs from the copy before is verified against its SHA-256, and what that
    one holds must be there or have been removed on record. Raises StoreError, and leaves the copy as it was, when that
    is not so, when it is one of another store, or when there is no room.
    """
    coming = target / _COMING
    with _told_of(target):
        try:
            target.mkdir(mode=0o700, exist_ok=True)
            with closing(_new_ledger(coming)) as made:
                fill(made)
                made.execute("PRAGMA journal_mode = DELETE")
                copied = _checked(made, coming)
                before = target / LEDGER
                if before.exists():
                    made.execute("ATTACH ? AS before", (f"{before.absolute().as_uri()}?mode=ro",))
                    check_successor(made, target, approve=approve)
                    names = [name for (name,) in made.execute("SELECT name FROM before.source ORDER BY name")]
                    _check_same(made, target, names)
                    _verify(made, target, {table: _differing(made, table, _HOLDING[table]) for table in _HOLDING})
                else:
                    _verify(made, target, None)
            _put_in_place(coming, target)
        finally:
            with suppress(OSError):  # what went wrong before is what counts
                coming.unlink(missing_ok=True)
    return copied


def _update(ledger: Path, target: Path, approve: Approval | None) -> Copied | None:
    """Bring the copy up to date in place; None where it has another schema, so that it has to be written again.

    What is written is committed when it is proven: all rows are those of the store, as of one moment, and every content
    that differs matches its SHA-256. Whatever ends it before leaves the copy as it was.
    """
    with closing(_opened(ledger)) as db:
        db.isolation_level = None
        db.execute("ATTACH ? AS before", (f"{(target / LEDGER).absolute().as_uri()}?mode=rw",))
        versions = {db.execute(f"PRAGMA {side}.user_version").fetchone()[0] for side in ("main", "before")}
        if len(versions) > 1:
            return None
        db.execute("BEGIN")
        differing = {name: _differing(db, name, table.names) for name, table in tables().items()}
        check_successor(db, target, differing["version"].gone, approve)
        _check_same(db, target, _touched(db, differing))
        _verify(db, target, differing)
        for table, rows in differing.items():
            _take_over(db, table, rows)
        if not all(_has_as_many(db, table) for table in tables()):
            raise StoreError(f"{target}: the written data differs from the store; the copy was not changed")
        sources, held = db.execute("SELECT count(DISTINCT source), count(*) FROM main.version").fetchone()
        (changes,) = db.execute("SELECT value FROM main.meta WHERE name = 'changes'").fetchone()
        db.execute("COMMIT")
    return Copied(sources, held, (target / LEDGER).stat().st_size, int(changes))


def _check_same(db: sqlite3.Connection, target: Path, sources: Iterable[str]) -> None:
    """RefusedError where a version of these sources is another one in the copy that is there."""
    with closing(_opened(target / LEDGER)) as before:
        check_same(target, sources, LedgerDigests(db), LedgerDigests(before))


def _touched(db: sqlite3.Connection, differing: "Mapping[str, _Differing]") -> list[str]:
    """The sources of whose versions anything differs, by name."""
    found: set[str] = set()
    for side in ("before", "main"):
        by_strand = f"SELECT s.name FROM {side}.source AS s JOIN {side}.strand AS t ON t.source = s.id "  # noqa: S608
        for table in _HOLDING:
            query = f"{by_strand} JOIN {side}.{table} AS c ON c.strand = t.id WHERE c.id = ?"
            found.update(row[0] for key in differing[table].of(side) for row in db.execute(query, key))
        query = f"SELECT name FROM {side}.source WHERE id = ?"  # noqa: S608
        found.update(row[0] for key in differing["version"].of(side) for row in db.execute(query, key[:1]))
    return sorted(found)


_Key = tuple[Any, ...]


@dataclass(frozen=True)
class _Differing:
    """The keys of what differs in a table: rows that are to go from the copy, and rows that are to come to it.

    A row that is another now is among both.
    """

    gone: Sequence[_Key]
    new: Sequence[_Key]

    def of(self, side: str) -> Sequence[_Key]:
        """Those of the copy, `before`, or of the store, `main`."""
        return self.gone if side == "before" else self.new


def _differing(db: sqlite3.Connection, table: str, columns: Sequence[str]) -> _Differing:
    """How the store's rows of a table differ from the copy's, by these columns."""
    key = ", ".join(f"ours.{one}" for one in tables()[table].key)
    same = " AND ".join(f"theirs.{one} = ours.{one}" for one in tables()[table].key)
    equal = " AND ".join([same, *(f"theirs.{one} IS ours.{one}" for one in columns if one not in tables()[table].key)])
    theirs = "SELECT 1 FROM {}.{} AS theirs WHERE {}"
    unlike = theirs.format("main", table, equal)
    unknown = theirs.format("before", table, same)
    gone = f"SELECT {key} FROM before.{table} AS ours WHERE NOT EXISTS ({unlike})"  # noqa: S608 (constants)
    lacking = f"SELECT {key} FROM main.{table} AS ours WHERE NOT EXISTS ({unknown})"  # noqa: S608 (constants)
    going = db.execute(gone).fetchall()
    return _Differing(going, [*going, *db.execute(lacking)])


def _take_over(db: sqlite3.Connection, table: str, rows: _Differing) -> None:
    """Make the copy's rows of a table those of the store."""
    columns = ", ".join(tables()[table].names)
    key = _by_key(table)
    db.executemany(f"DELETE FROM before.{table} WHERE {key}", rows.gone)  # noqa: S608 (constants)
    db.executemany(f"INSERT INTO before.{table} ({columns}) SELECT {columns} FROM main.{table} WHERE {key}", rows.new)  # noqa: S608 (constants)


def _by_key(table: str) -> str:
    return " AND ".join(f"{one} = ?" for one in tables()[table].key)


def _has_as_many(db: sqlite3.Connection, table: str) -> bool:
    """Whether both sides have as many rows: the last look before what was written counts."""
    ours, theirs = (db.execute(f"SELECT count(*) FROM {side}.{table}").fetchone() for side in ("main", "before"))  # noqa: S608
    return bool(ours == theirs)


@contextmanager
def _told_of(target: Path) -> Iterator[None]:
    """What goes wrong while a copy is made, in words; and whether the copy that is there is whole."""
    try:
        yield
    except OSError as exc:
        raise StoreError(f"{target}: {exc.strerror}", hint="check that it is mounted, and writable") from exc
    except sqlite3.Error as exc:
        if (target / LEDGER).exists() and not _is_whole(target / LEDGER):
            hint = "verify the store; if it is intact, move the damaged copy away, and update again"
            raise StoreError(f"{target}: the copy there is damaged; it was not changed", hint=hint) from exc
        raise StoreError(
            f"{target}: cannot copy the store: {exc}", hint="check the free space. The copy is unchanged"
        ) from exc


def _opened(file: Path) -> sqlite3.Connection:
    """A ledger that is only read; what whoever wrote it was killed in is rolled back first."""
    uri = file.absolute().as_uri()
    db = sqlite3.connect(f"{uri}?mode=ro", uri=True)
    try:
        db.execute("SELECT 1 FROM sqlite_schema").fetchone()
    except sqlite3.OperationalError:  # to roll back is to write
        with suppress(sqlite3.Error), closing(sqlite3.connect(f"{uri}?mode=rw", uri=True)) as writer:
            writer.execute("SELECT 1 FROM sqlite_schema").fetchone()
    except sqlite3.DatabaseError:
        pass  # whoever reads it sees that
    return db


def _is_whole(file: Path) -> bool:
    try:
        with closing(_opened(file)) as db:
            return bool(db.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok")
    except sqlite3.Error:
        return False


def _checked(made: sqlite3.Connection, file: Path) -> Copied:
    verdict = made.execute("PRAGMA integrity_check(1)").fetchone()[0]
    if verdict != "ok":
        raise StoreError(f"the copy would be damaged: {verdict}", hint="historon verify")
    sources, versions = made.execute("SELECT count(DISTINCT source), count(*) FROM version").fetchone()
    (changes,) = made.execute("SELECT value FROM meta WHERE name = 'changes'").fetchone()
    return Copied(sources, versions, file.stat().st_size, int(changes))


# The tables of what parts hold, with the columns in which that rests.
_HOLDING = {
    "content": ("strand", "position", "base_strand", "base", "size", "encoding", "sha256", "data"),
    "bundle": ("strand", "first", "data"),
    "block": ("strand", "sha256", "data"),
}


def _verify(made: sqlite3.Connection, target: Path, differing: Mapping[str, _Differing] | None) -> None:
    """Verify, in the new copy itself, what differs from the copy before, or all of it."""
    contents = Contents(made)
    try:
        new = {name: differing[name].new for name in _HOLDING} if differing else None
        changed = set(_places_of(made, contents, "main", new))
        gone = {name: differing[name].gone for name in _HOLDING} if differing else {}
        if any(gone.values()):
            places = set(_places_of(made, contents, "before", gone))
            changed |= places & _wanted(made, {strand for strand, _ in places})
        for strand, position in sorted(changed):
            contents.verify_record(strand, position)
    except StoreError as exc:
        raise StoreError(
            f"{target}: the copy would be damaged: {exc.message}; it was not changed",
            hint="historon verify shows the damage in the store; rebuild it from the copy",
        ) from exc


def _places_of(
    made: sqlite3.Connection, contents: Contents, side: str, keys: Mapping[str, Sequence[_Key]] | None
) -> Iterator[tuple[int, int]]:
    """The strands and positions of the contents of one side that these rows hold; without keys, of all its contents."""

    def rows(table: str, columns: str) -> Iterator[Any]:
        query = f"SELECT {columns} FROM {side}.{table}"  # noqa: S608 (constants)
        if keys is None:
            yield from made.execute(query)
            return
        for key in keys[table]:
            yield from made.execute(f"{query} WHERE {_by_key(table)}", key)

    yield from rows("content", "strand, position")
    for strand, data in rows("bundle", "strand, data"):
        yield from ((strand, position) for position in contents.bundled(data))
    for strand in {strand for (strand,) in rows("block", "strand")}:
        in_blocks = f"SELECT strand, position FROM {side}.content WHERE strand = ? AND encoding = {Encoding.BLOCKS:d}"  # noqa: S608
        yield from made.execute(in_blocks, (strand,))


def _wanted(made: sqlite3.Connection, strands: set[int]) -> set[tuple[int, int]]:
    """The contents that some version in the new copy is made of, of the sources that these strands are of."""
    found: set[tuple[int, int]] = set()
    query = "SELECT DISTINCT source FROM main.strand WHERE id = ?"
    for source in {row[0] for strand in strands for row in made.execute(query, (strand,))}:
        for (parts,) in made.execute("SELECT parts FROM main.version WHERE source = ?", (source,)):
            found.update(places_in(parts))
    return found


def insert_rows(made: sqlite3.Connection, table: str, rows: Iterable[Sequence[Any]]) -> None:
    """Make these rows all that a table holds."""
    made.execute(f"DELETE FROM {table}")  # noqa: S608 (constants)
    made.executemany(insertion(table), rows)


def _put_in_place(coming: Path, target: Path) -> None:
    with coming.open("rb") as file:
        os.fsync(file.fileno())
    for rest in ("-wal", "-shm"):  # of one that was opened: they belong to the bytes before
        (target / f"{LEDGER}{rest}").unlink(missing_ok=True)
    coming.replace(target / LEDGER)
    sync_folder(target)
