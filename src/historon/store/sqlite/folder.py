"""The store as a folder: one SQLite database that is the ledger and holds the contents."""

import os
import shutil
import sqlite3
from collections.abc import Iterable, Sequence
from contextlib import closing, suppress
from datetime import datetime
from pathlib import Path
from typing import Any

from historon.base.errors import StoreError
from historon.base.processes import is_running
from historon.store.interface import Store
from historon.store.ledger.store import LedgerStore
from historon.store.records import Approval, Copied
from historon.store.sqlite.bare import BareLedger
from historon.store.sqlite.copying import copy_of, insert_rows
from historon.store.sqlite.schema import migrate
from historon.store.sqlite.transactions import LEDGER, FileTransactions

__all__ = ["FolderStore"]

_RESERVE = "reserve"  # a file that only takes room, which is given up when there is none left to remove things with
_RESERVED = 4 * 2**20  # bytes
_PAGES_AT_ONCE = 500  # that are given back in one step
_ROOM_FOR_RESERVE = 4 * _RESERVED


class FolderStore(LedgerStore):
    """A store in a folder of this machine. One process writes at a time, others wait; readers never wait."""

    transactions: FileTransactions

    def __init__(
        self,
        folder: Path,
        *,
        indexed: bool = True,
        spend_reserve: bool = False,
        to_read: bool = False,
        untouched: bool = False,
    ) -> None:
        """Open the store. StoreError when its ledger is not there, cannot be read, or is newer than this program.

        `to_read` lets it be read where the disk has no byte left. With `spend_reserve` the room that was set aside is
        given up first, so that there is some to remove things with. An `untouched` one is looked at, and not changed.
        """
        self._folder = folder
        self._others: list[FolderStore] = []
        self._closed = False
        transactions = FileTransactions(folder, to_read=to_read, to_free=spend_reserve, untouched=untouched)
        if spend_reserve and not transactions.read_only and self.room() < _ROOM_FOR_RESERVE:
            with suppress(OSError):
                (folder / _RESERVE).unlink()
        transactions.open()
        super().__init__(transactions, indexed=indexed)

    @property
    def place(self) -> str:
        return str(self._folder)

    @property
    def folder(self) -> Path:
        return self._folder

    @property
    def read_only(self) -> bool:
        """Whether this user may only read it."""
        return self.transactions.read_only

    def another(self) -> Store:
        """See Store: a connection of its own, so that whoever writes may wait while others read."""
        if type(self) is not FolderStore:
            return self
        made = FolderStore(self._folder, indexed=self.indexed)
        # What is there now may be another store: it is read, and written to by nobody.
        made.transactions.identity = self.transactions.identity
        self._others = [*(one for one in self._others if not one._closed), made]
        return made

    @classmethod
    def create(cls, folder: Path, copy: Path | None = None) -> "FolderStore":
        """Make a new store, readable by its owner alone, empty or with all that a copy holds.

        StoreError when one is there, or when the copy is damaged.
        """
        file = folder / LEDGER
        try:
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            if copy is not None and not file.exists():
                copy_of(copy / LEDGER, folder)
                return cls(folder)
            os.close(os.open(file, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600))
        except FileExistsError as exc:
            raise StoreError(f"{folder}: there is already a store; nothing was changed") from exc
        except OSError as exc:
            raise StoreError(f"{folder}: cannot make a store: {exc.strerror}", hint="check the permissions") from exc
        with closing(sqlite3.connect(file)) as db:
            db.executescript("PRAGMA page_size = 2048; PRAGMA auto_vacuum = INCREMENTAL")
            db.execute("VACUUM")
            migrate(db, str(file))
        made = cls(folder)
        made.set_aside()
        return made

    def _lease_time(self, now: datetime) -> datetime:
        return now  # all who share the folder are on this machine, or calculate with its clock

    def _is_dead(self, holder: str) -> bool:
        return is_running(holder) is False

    def begin_round(self, at: datetime, trigger: str) -> int:
        self.set_aside()
        return super().begin_round(at, trigger)

    def give_back(self) -> None:
        db = self.transactions.db
        with self.transactions.doing("free disk space"):
            # In small steps, as a full disk has little room for the journal of each.
            free = -1
            while (left := db.execute("PRAGMA freelist_count").fetchone()[0]) not in (0, free):
                free = left
                # As a script: `execute` would take one step of it, which frees one page.
                db.executescript(f"PRAGMA wal_checkpoint(TRUNCATE); PRAGMA incremental_vacuum({_PAGES_AT_ONCE});")
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def set_aside(self) -> None:
        reserve = self._folder / _RESERVE
        if reserve.exists() or self.room() < _ROOM_FOR_RESERVE:
            return
        with suppress(OSError):
            file = os.open(reserve, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            try:
                os.posix_fallocate(file, 0, _RESERVED)
            finally:
                os.close(file)

    def room(self) -> int:
        return shutil.disk_usage(self._folder).free

    def check(self) -> list[str]:
        with self.transactions.doing("check the ledger"):
            rows = self.transactions.db.execute("PRAGMA integrity_check(20)")
            return [row[0] for row in rows if row[0] != "ok"]

    def size(self) -> int:
        try:
            return sum(file.stat().st_size for file in self._folder.glob(f"{LEDGER}*"))
        except OSError as exc:
            raise StoreError(f"{self._folder}: {exc.strerror}", hint="check that its disk is mounted") from exc

    def copy_to(self, target: Path, approve: Approval | None = None) -> Copied:
        return copy_of(self.transactions.file, target, approve)

    def write_ledger(self, file: Path) -> None:
        with self.transactions.doing("copy the ledger"), closing(self._reader()) as db:
            db.execute("BEGIN")

            def rows(table: str, columns: Sequence[str]) -> Iterable[Sequence[Any]]:
                return db.execute(f"SELECT {', '.join(columns)} FROM {table}")  # noqa: S608 (constants)

            BareLedger.make(file, rows, insert_rows)

    def _reader(self) -> sqlite3.Connection:
        """A connection of its own, that only reads."""
        uri = f"{self.transactions.file.absolute().as_uri()}?mode=ro"
        return sqlite3.connect(uri, uri=True, isolation_level=None)

    def close(self) -> None:
        """See Store. Those that were made for other threads are closed too."""
        self._closed = True
        self.transactions.db.close()
        for one in self._others:
            one.close()
