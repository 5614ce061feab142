"""Transactions on a ledger that is a file of SQLite: one process writes at a time, the others wait."""

import errno
import os
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import datetime
from pathlib import Path
from typing import TypeVar

from historon.base.errors import StoreError
from historon.base.processes import is_running, process_in_words, this_process
from historon.store.ledger.transactions import Transactions
from historon.store.sqlite.schema import check_schema, migrate

__all__ = ["LEDGER", "FileTransactions"]

LEDGER = "ledger.sqlite"
_BUSY_S = 60
_WRITING = "writing"  # a file that says who writes, for those who have to wait
_T = TypeVar("_T")


class FileTransactions(Transactions):
    """Those on the ledger in a folder."""

    db: sqlite3.Connection

    def __init__(self, folder: Path, *, to_read: bool = False, to_free: bool = False, untouched: bool = False) -> None:
        """StoreError when the ledger is not there or cannot be read; `open` has to follow.

        `to_read` lets it be read where the disk has no byte left; with `to_free` somebody wants to make room. What is
        `untouched` stays as it is to the byte, also where it could be written.
        """
        self._to_read, self._to_free = to_read, to_free
        self.full = False
        self.undone = lambda: None
        self.folder = folder
        self.file = folder / LEDGER
        self.place = str(self.file)
        state = self._look()
        self.identity = state.st_dev, state.st_ino
        self.read_only = untouched or not (os.access(self.file, os.W_OK) and os.access(folder, os.W_OK | os.X_OK))

    def open(self) -> None:
        """Open the ledger. StoreError when that cannot be done, or when it is newer than this program."""
        with self.doing("open the store"):
            self.db = self._opened_to_read() if self.read_only else self._opened_if_not_full()
            try:
                if self.read_only or self.full:
                    check_schema(self.db, str(self.file))
                else:
                    migrate(self.db, str(self.file))
            except BaseException:
                self.db.close()
                raise

    def _look(self) -> os.stat_result:
        """What the ledger's file is now; StoreError when it is no ledger that could be opened.

        Nothing but SQLite may ever open it: to close a file lets go of all locks that this process has on it, whoever
        took them (POSIX, fcntl), and then the next reader takes the write-ahead log away from under a writer.
        """
        try:
            state = self.file.stat()
            if not os.access(self.file, os.R_OK):
                raise PermissionError(errno.EACCES, os.strerror(errno.EACCES))
        except (FileNotFoundError, NotADirectoryError) as exc:
            raise StoreError(
                f"{self.folder}: there is no store here",
                hint="check that its disk is mounted. A new, empty store is made with: historon new DIR --store-only",
            ) from exc
        except OSError as exc:
            hint = "run this as its owner, or change its owner and mode"
            raise StoreError(f"{self.file}: this user cannot read it: {exc.strerror}", hint=hint) from exc
        if not state.st_size:
            hint = "it was cut off: rebuild the store from a copy"
            raise StoreError(f"{self.file}: the ledger is empty, a file of 0 bytes", hint=hint)
        return state

    def _opened(self) -> sqlite3.Connection:
        db = sqlite3.connect(self.file, timeout=_BUSY_S, isolation_level=None, check_same_thread=False)
        try:
            # FULL: a commit has reached the disk when it returns, also in write-ahead mode.
            db.executescript("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA temp_store = MEMORY;")
            # What is removed is given back to the disk at once; to write zeros over it first would take as much room.
            db.execute("PRAGMA secure_delete = OFF")
        except sqlite3.Error:
            db.close()
            raise
        return db

    def _opened_if_not_full(self) -> sqlite3.Connection:
        try:
            return self._opened()
        except sqlite3.OperationalError as exc:
            if not self._to_read or not _is_full(exc):
                raise
            self.full = True
            return self._opened_when_full()

    def _opened_when_full(self) -> sqlite3.Connection:
        """Open a store beside which there is no room for the index of its write-ahead log: that is kept in memory."""
        db = sqlite3.connect(self.file, timeout=_BUSY_S, isolation_level=None, check_same_thread=False)
        try:
            # Before anything is read (sqlite.org/wal.html, section 9). What this one locks it lets go of at its end.
            db.executescript("PRAGMA locking_mode = EXCLUSIVE; PRAGMA temp_store = MEMORY; PRAGMA query_only = ON;")
            db.execute("SELECT 1 FROM sqlite_schema").fetchone()
        except sqlite3.Error:
            db.close()
            raise
        return db

    def _opened_to_read(self) -> sqlite3.Connection:
        """Open a store that cannot be written: a snapshot, a disk that went bad, or another user's."""
        place = self.file.absolute().as_uri()
        try:
            return self._readable(f"{place}?mode=ro")
        except sqlite3.OperationalError:  # without write-ahead files beside it SQLite wants to make them
            return self._readable(f"{place}?immutable=1")

    def _readable(self, place: str) -> sqlite3.Connection:
        db = sqlite3.connect(place, uri=True, timeout=_BUSY_S, isolation_level=None, check_same_thread=False)
        try:
            db.execute("SELECT 1 FROM sqlite_schema").fetchone()
        except sqlite3.Error:
            db.close()
            raise
        return db

    def write(self, what: str, work: Callable[[], _T]) -> _T:
        if self.read_only:
            hint = "commands that only read still work; to write, mount it writable, or use a copy of it"
            raise StoreError(f"{self.file}: cannot {what}: the store is read-only", hint=hint)
        if self.full:
            raise StoreError(f"{self.file}: cannot {what}: the disk is full", hint=self._full_advice())
        self._check_place()
        with self.doing(what):
            self.db.execute("BEGIN IMMEDIATE")
            self._sign(what)
            try:
                made = work()
                self._sign("")  # while nobody else can be writing, whose word this would wipe
                self.db.execute("COMMIT")
            except BaseException:
                self.undone()
                if self.db.in_transaction:
                    self._sign("")
                    self.db.execute("ROLLBACK")
                raise
        return made

    def _check_place(self) -> None:
        """StoreError when the store was moved away, or another one is in its place: what is written would be lost."""
        try:
            state = self.file.stat()
        except OSError:
            state = None
        if state is None or (state.st_dev, state.st_ino) != self.identity:
            raise StoreError(
                f"{self.file}: the store was moved or replaced while it was open; nothing more was written",
                hint="if this was intended, restart the service: it opens the store that is there then",
            )

    def _sign(self, what: str) -> None:
        """Leave word for those who wait of who is writing, since when, and what for; nobody else reads it."""
        with suppress(OSError):
            word = f"{this_process()}\n{datetime.now().astimezone():%H:%M:%S} ({what})" if what else ""
            with open(os.open(self.folder / _WRITING, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
                file.write(word)

    def _who_writes(self) -> str:
        """Who is writing, in words; nothing where nobody left word, or whoever did is dead."""
        with suppress(OSError):
            process, _, since = (self.folder / _WRITING).read_text(errors="replace").partition("\n")
            if is_running(process) is not False:
                return f"{process_in_words(process)} has been writing since {since}"
        return ""

    @contextmanager
    def doing(self, what: str) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as exc:
            busy = getattr(exc, "sqlite_errorname", "").startswith("SQLITE_BUSY")
            why = (self._who_writes() if busy else "") or str(exc)
            advice = self._full_advice() if _is_full(exc) else _advice(exc)
            raise StoreError(f"{self.file}: cannot {what}: {why}", hint=advice) from exc

    def _full_advice(self) -> str:
        """What makes room: to advise what has just been tried would lead nowhere."""
        if self._to_free:
            return f"move other files away from the disk of {self.folder}, a few MB, then prune; nothing was removed"
        return "free some space (historon prune), then run it again; nothing was half written"


def _is_full(exc: sqlite3.Error) -> bool:
    """Whether the disk took no more: the library says so in several ways."""
    name = getattr(exc, "sqlite_errorname", "") or ""
    return name in ("SQLITE_FULL", "SQLITE_IOERR_WRITE", "SQLITE_IOERR_SHMSIZE", "SQLITE_IOERR_SHMOPEN")


def _advice(exc: sqlite3.Error) -> str:
    name = getattr(exc, "sqlite_errorname", "") or ""
    advice = {
        "SQLITE_IOERR": "nothing was half written, but the disk refused the data: full (historon prune)? failing?",
        "SQLITE_BUSY": "another Historon is writing: wait for it to end",
        "SQLITE_READONLY": "check the owner and mode of the store",
        "SQLITE_CANTOPEN": "check the owner and mode of the store",
        "SQLITE_CORRUPT": "the file is damaged: rebuild the store: historon new . --store-only --from-copy PLACE",
        "SQLITE_NOTADB": (
            "this file is not a ledger, or it is damaged: rebuild the store: historon new . "
            "--store-only --from-copy PLACE"
        ),
    }
    return next(
        (text for code, text in advice.items() if name.startswith(code)), "check the disk and the store's folder"
    )
