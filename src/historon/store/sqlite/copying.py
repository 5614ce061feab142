"""A second place for all versions: a whole store, which nothing half written ever takes the place of."""

import os
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from historon.errors import StoreError
from historon.store.encoding import Encoding
from historon.store.interface import Copied
from historon.store.ledger.contents import Contents
from historon.store.ledger.store import places_in
from historon.store.sqlite.transactions import LEDGER

__all__ = ["copy_of", "make_copy"]

_COMING = f"{LEDGER}.coming"
_PAGES = 2000  # that are copied at a time; writers come in between


def copy_of(ledger: Path, target: Path) -> Copied:
    """Make `target` a copy of the store with this ledger, see `make_copy`; may run while the store is written to."""
    if target.is_dir() and target.samefile(ledger.parent):
        raise StoreError(f"{target} is the store itself", hint="name another folder, on another disk")

    def fill(made: sqlite3.Connection) -> None:
        with closing(_opened(ledger)) as store:
            store.backup(made, pages=_PAGES)

    return make_copy(target, fill)


def make_copy(target: Path, fill: Callable[[sqlite3.Connection], None]) -> Copied:
    """Make `target` a copy of the store whose ledger `fill` writes into a new one.

    The copy is never made worse. Whatever differs from the copy before is verified against its SHA-256, and what that
    one holds must be there or have been removed on record. Raises StoreError, and leaves the copy as it was, when that
    is not so, when it is one of another store, or when there is no room.
    """
    coming = target / _COMING
    try:
        target.mkdir(mode=0o700, exist_ok=True)
        coming.unlink(missing_ok=True)
        os.close(os.open(coming, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600))
        with closing(sqlite3.connect(f"{coming.absolute().as_uri()}?mode=rw", uri=True)) as made:
            fill(made)
            made.execute("PRAGMA journal_mode = DELETE")
            copied = _checked(made, coming)
            before = target / LEDGER
            if before.exists():
                made.execute("ATTACH ? AS before", (f"{before.absolute().as_uri()}?mode=ro",))
                _compare(made, target)
            _verify(made, target, all_of_it=not before.exists())
        _put_in_place(coming, target)
    except OSError as exc:
        raise StoreError(f"{target}: {exc.strerror}", hint="is it mounted, and writable?") from exc
    except sqlite3.Error as exc:
        if (target / LEDGER).exists() and not _is_whole(target / LEDGER):
            hint = "verify the store; if it is whole, move the damaged copy away, and update again"
            raise StoreError(f"{target}: the copy there is damaged; it was not touched", hint=hint) from exc
        raise StoreError(
            f"{target}: cannot copy the store: {exc}", hint="is there room? The copy is as it was"
        ) from exc
    finally:
        with suppress(OSError):  # what went wrong before is what counts
            coming.unlink(missing_ok=True)
    return copied


def _opened(file: Path) -> sqlite3.Connection:
    return sqlite3.connect(f"{file.absolute().as_uri()}?mode=ro", uri=True)


def _is_whole(file: Path) -> bool:
    try:
        with closing(_opened(file)) as db:
            return bool(db.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok")
    except sqlite3.Error:
        return False


def _checked(made: sqlite3.Connection, file: Path) -> Copied:
    if (verdict := made.execute("PRAGMA integrity_check(1)").fetchone()[0]) != "ok":
        raise StoreError(f"the copy would be damaged: {verdict}", hint="historon verify")
    sources, versions = made.execute("SELECT count(DISTINCT source), count(*) FROM version").fetchone()
    (changes,) = made.execute("SELECT value FROM meta WHERE name = 'changes'").fetchone()
    return Copied(sources, versions, file.stat().st_size, int(changes))


def _compare(made: sqlite3.Connection, target: Path) -> None:
    """Whether the new copy may take the place of the one before: all that this one knows is in it, or was removed."""
    key = "SELECT value FROM {}.meta WHERE name = 'fingerprint_key'"
    if made.execute(key.format("before")).fetchone() != made.execute(key.format("main")).fetchone():
        raise StoreError(f"{target} holds the copy of another store", hint="name another folder; nothing was changed")
    for what, query in _LOST.items():
        if row := made.execute(query).fetchone():
            raise StoreError(
                f"{target} {what.format(*row)}; the copy was not touched",
                hint="the store has lost something, or went back in time: look before anything else; the copy has it",
            )


_LOST = {
    "knows {}@{}, which the store does not": """
        SELECT old.name, old.last_number FROM before.source AS old LEFT JOIN main.source AS new USING (name)
        WHERE old.last_number > coalesce(new.last_number, 0) ORDER BY old.name LIMIT 1
    """,
    "holds {}@{}, which is neither in the store nor removed on record": """
        SELECT s.name, old.number FROM before.version AS old JOIN before.source AS s ON s.id = old.source
        WHERE NOT EXISTS (SELECT 1 FROM main.version AS new JOIN main.source AS t ON t.id = new.source
                          WHERE t.name = s.name AND new.number = old.number AND new.at = old.at)
        AND NOT EXISTS (SELECT 1 FROM main.removed AS gone JOIN main.source AS t ON t.id = gone.source
                        WHERE t.name = s.name AND gone.number = old.number)
        ORDER BY s.name, old.number LIMIT 1
    """,
}


def _verify(made: sqlite3.Connection, target: Path, *, all_of_it: bool) -> None:
    """Verify, in the new copy itself, every content whose bytes are not those of the copy before, or are not there."""
    contents = Contents(made)
    try:
        changed = set(_places_of(made, contents, "main", None if all_of_it else "before"))
        if not all_of_it:
            gone = set(_places_of(made, contents, "before", "main"))
            changed |= gone & _wanted(made)
        for strand, position in sorted(changed):
            contents.verify_record(strand, position)
    except StoreError as exc:
        raise StoreError(
            f"{target}: the copy would be damaged: {exc.message}; it was not touched",
            hint="historon verify tells what is damaged in the store; take it back from the copy",
        ) from exc


def _places_of(made: sqlite3.Connection, contents: Contents, side: str, other: str | None) -> Iterator[tuple[int, int]]:
    """The strands and positions of the contents of one side that the other has not, or not with the same bytes."""

    def rows(table: str, key: str, columns: Sequence[str]) -> Iterable[Any]:
        """The rows of one side that are not in the other as they are; strand and key tell one row from another."""
        found = ", ".join(f"here.{one}" for one in ("strand", key, *columns))
        query = f"SELECT {found} FROM {side}.{table} AS here"  # noqa: S608 (constants)
        if other:
            differs = " OR ".join(f"here.{one} IS NOT there.{one}" for one in ("strand", *columns))
            query += f" LEFT JOIN {other}.{table} AS there USING (strand, {key}) WHERE {differs}"
        return made.execute(query)

    parts_of_content = ("base_strand", "base", "size", "encoding", "sha256", "data")
    for strand, position, *_ in rows("content", "position", parts_of_content):
        yield strand, position
    for strand, _, data in rows("bundle", "first", ["data"]):
        yield from ((strand, position) for position in contents.bundled(data))
    for strand in {strand for strand, *_ in rows("block", "id", ["sha256", "data"])}:
        in_blocks = f"SELECT strand, position FROM {side}.content WHERE strand = ? AND encoding = {Encoding.BLOCKS:d}"  # noqa: S608
        yield from made.execute(in_blocks, (strand,))


def _wanted(made: sqlite3.Connection) -> set[tuple[int, int]]:
    """The contents that some version in the new copy is made of."""
    return {place for (parts,) in made.execute("SELECT parts FROM main.version") for place in places_in(parts)}


def _put_in_place(coming: Path, target: Path) -> None:
    with coming.open("rb") as file:
        os.fsync(file.fileno())
    for rest in ("-wal", "-shm"):  # of one that was opened: they belong to the bytes before
        (target / f"{LEDGER}{rest}").unlink(missing_ok=True)
    coming.replace(target / LEDGER)
    folder = os.open(target, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)
