"""A second place for all versions: a whole store, which nothing half written ever takes the place of."""

import os
import sqlite3
from contextlib import closing, suppress
from dataclasses import dataclass
from pathlib import Path

from historon.errors import StoreError
from historon.store.folder import LEDGER

__all__ = ["Copied", "copy_store"]

_COMING = f"{LEDGER}.coming"
_PAGES = 2000  # that are copied at a time; writers come in between


@dataclass(frozen=True)
class Copied:
    """What the copy holds now; `size` in bytes, `changes` the store's change number."""

    sources: int
    versions: int
    size: int
    changes: int


def copy_store(folder: Path, target: Path) -> Copied:
    """Make `target` a copy of the store in `folder`, as of now; may run while the store is written to.

    Raises StoreError, and leaves the copy as it was, when it is not whole, is one of another store, or knows versions
    that the store does not: then the store has lost something, and the copy is what is left of it.
    """
    coming = target / _COMING
    try:
        target.mkdir(mode=0o700, exist_ok=True)
        if target.samefile(folder):
            raise StoreError(f"{target} is the store itself", hint="name another folder, on another disk")
        coming.unlink(missing_ok=True)
        os.close(os.open(coming, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600))
        with closing(_opened(folder / LEDGER)) as store, closing(sqlite3.connect(coming)) as made:
            store.backup(made, pages=_PAGES)
            made.execute("PRAGMA journal_mode = DELETE")
            copied = _checked(made, coming)
            if (target / LEDGER).exists():
                with closing(_opened(target / LEDGER)) as before:
                    _compare(before, made, target)
        _put_in_place(coming, target)
    except OSError as exc:
        raise StoreError(f"{target}: {exc.strerror}", hint="is it mounted, and writable?") from exc
    except sqlite3.Error as exc:
        raise StoreError(
            f"{target}: cannot copy the store: {exc}", hint="is there room? The copy is as it was"
        ) from exc
    finally:
        with suppress(OSError):  # what went wrong before is what counts
            coming.unlink(missing_ok=True)
    return copied


def _opened(file: Path) -> sqlite3.Connection:
    return sqlite3.connect(f"{file.absolute().as_uri()}?mode=ro", uri=True)


def _checked(made: sqlite3.Connection, file: Path) -> Copied:
    if (verdict := made.execute("PRAGMA integrity_check(1)").fetchone()[0]) != "ok":
        raise StoreError(f"the copy would be damaged: {verdict}", hint="historon verify")
    sources, versions = made.execute("SELECT count(DISTINCT source), count(*) FROM version").fetchone()
    (changes,) = made.execute("SELECT value FROM meta WHERE name = 'changes'").fetchone()
    return Copied(sources, versions, file.stat().st_size, changes)


def _compare(before: sqlite3.Connection, made: sqlite3.Connection, target: Path) -> None:
    """Whether the new copy may take the place of the one before."""
    key = "SELECT value FROM meta WHERE name = 'fingerprint_key'"
    if before.execute(key).fetchone() != made.execute(key).fetchone():
        raise StoreError(f"{target} holds the copy of another store", hint="name another folder; nothing was changed")
    newer = dict(made.execute("SELECT name, last_number FROM source"))
    for name, last in before.execute("SELECT name, last_number FROM source ORDER BY name"):
        if last > newer.get(name, 0):
            raise StoreError(
                f"{target} knows {name}@{last}, which the store does not; the copy was not touched",
                hint="the store went back in time: see what it lost before anything else",
            )


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
