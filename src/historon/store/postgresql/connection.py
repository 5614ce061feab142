"""A connection to PostgreSQL that is made again when it broke, and transactions on it.

One transaction writes at a time: it begins by changing one row, for which the next one waits. A row is what poolers and
clusters that speak PostgreSQL's protocol have; nothing depends on a session. What that row says afterwards also tells
whether a transaction was committed whose connection broke just then.
"""

import secrets
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import lru_cache
from typing import Any, TypeVar

import psycopg
from psycopg import errors

from historon.base.errors import StoreError
from historon.store.ledger.transactions import Database, Rows, Transactions

__all__ = ["ServerConnection", "ServerTransactions"]

_BUSY_S = 60
_PATIENCE_S = 30  # for which a server that is gone is tried again before a transaction is given up
_SHORT_PATIENCE_S = 5  # the same for a question
_PAUSE_S = 0.2
_REPEATS = 5  # of a transaction that the server asks to be done again
_REPEATED = (errors.SerializationFailure, errors.DeadlockDetected)
_LOCK = "SELECT value FROM meta WHERE name = 'writer' FOR UPDATE;"
_SCHEMAS = "SET LOCAL search_path = public, pg_temp;"
_MARK = "UPDATE meta SET value = '\\x{}' WHERE name = 'writer'"
_T = TypeVar("_T")


class _UnknownEndError(Exception):
    """The connection broke while a transaction was being committed."""


class _NotCommittedError(Exception):
    """The same, and it was not."""


class ServerConnection(Database):
    """Outside of transactions a question is asked again over a new connection when the old one broke."""

    def __init__(self, connect: Callable[[], "psycopg.Connection[Any]"]) -> None:
        self._connect = connect
        self._made = connect()
        self._closed = threading.Event()
        self.in_transaction = False

    def execute(self, sql: str, values: Sequence[Any] = (), /) -> Rows:
        if self.in_transaction:
            return self._asked(sql, values)
        try:
            return self._asked(sql, values)
        except psycopg.OperationalError:
            if not self.is_broken:
                raise
        self.connect_again(_SHORT_PATIENCE_S)
        return self._asked(sql, values)

    def executemany(self, sql: str, values: Iterable[Sequence[Any]], /) -> object:
        rows = [_sent(row) for row in values]
        if rows:
            self._made.cursor().executemany(_in_its_words(sql), rows)
        return None

    def script(self, sql: str) -> list[Any]:
        """Run several statements; the rows of the one that returns any."""
        cursor = self._made.execute(sql.encode())
        rows = []
        while True:
            if cursor.description is not None:
                rows += cursor.fetchall()
            if not cursor.nextset():
                return rows

    @property
    def is_broken(self) -> bool:
        """Whether nothing can be asked over it any more."""
        return self._made.closed

    def connect_again(self, patience_s: float) -> None:
        """Make the connection again; raises psycopg's error when that cannot be done for so long."""
        with suppress(psycopg.Error):
            self._made.close()
        self.in_transaction = False
        until = time.monotonic() + patience_s
        while True:
            try:
                self._made = self._connect()
                return
            except psycopg.OperationalError:
                if time.monotonic() >= until or self._closed.is_set():
                    raise
            self.wait(_PAUSE_S)

    def wait(self, seconds: float) -> None:
        """Wait before something is tried again, but not once it was let go of."""
        self._closed.wait(seconds)

    def close(self) -> None:
        """Let go of it."""
        self._closed.set()
        self._made.close()

    def _asked(self, sql: str, values: Sequence[Any]) -> Rows:
        if values:
            return self._made.execute(_in_its_words(sql), _sent(values))
        return self._made.execute(sql.encode())


@lru_cache(maxsize=512)
def _in_its_words(sql: str) -> bytes:
    return sql.replace("%", "%%").replace("?", "%s").encode()


def _sent(values: Sequence[Any]) -> list[Any]:
    """Values as the server takes them: its texts hold no NUL, and enumerations are the numbers or texts they are."""
    return [_value(one) for one in values]


def _value(one: Any) -> Any:
    if isinstance(one, str):
        return str.__str__(one).replace("\0", "\N{SYMBOL FOR NULL}")
    return int(one) if isinstance(one, int) and not isinstance(one, bool) else one


class ServerTransactions(Transactions):
    """Those on a store in a database."""

    db: ServerConnection

    def __init__(self, db: ServerConnection, place: str) -> None:
        """`place` is what messages call the store."""
        self.db = db
        self.undone = lambda: None
        self.place = place
        self._one_at_a_time = threading.RLock()
        self._begin = f"BEGIN ISOLATION LEVEL READ COMMITTED; SET LOCAL lock_timeout = '{_BUSY_S}s'; " + _SCHEMAS
        # Where the server is set not to wait for its disk, a version would be reported that may still be lost.
        with self.doing("open the store"):
            lazy = db.execute("SHOW synchronous_commit").fetchone()[0] == "off"
        self._also = "SET LOCAL synchronous_commit = 'on';" if lazy else ""

    def write(self, what: str, work: Callable[[], _T]) -> _T:
        with self._one_at_a_time, self.doing(what):
            repeats = 0
            until = time.monotonic() + _PATIENCE_S
            while True:
                try:
                    return self._written(work)
                except _REPEATED:
                    repeats += 1
                    if repeats > _REPEATS:
                        raise
                    self.db.wait(_PAUSE_S * secrets.SystemRandom().random() * repeats)
                except psycopg.OperationalError:
                    if not self.db.is_broken or time.monotonic() > until:
                        raise
                    self.db.connect_again(until - time.monotonic())
                except _NotCommittedError:
                    repeats += 1
                    if repeats > _REPEATS:
                        raise StoreError(f"{self.place}: cannot {what}: the connection breaks each time") from None
                except _UnknownEndError as exc:
                    raise StoreError(
                        f"{self.place}: cannot {what}: the connection broke at the commit, so the result is unknown",
                        hint="do it again once the server can be reached: equal exports make no second version",
                    ) from exc

    def _written(self, work: Callable[[], _T]) -> _T:
        ours = secrets.token_bytes(16)
        mark = _MARK.format(ours.hex())
        try:
            ((before,),) = self.db.script(self._begin + self._also + _LOCK + mark)
            self.db.in_transaction = True
            made = work()
        except BaseException:
            self.undone()
            self.db.in_transaction = False
            with suppress(psycopg.Error):
                self.db.script("ROLLBACK")
            raise
        try:
            self.db.script("COMMIT")
        except psycopg.OperationalError as exc:
            self.undone()
            if not self.db.is_broken:
                raise
            if not self._was_committed(ours, bytes(before), exc):
                raise _NotCommittedError from exc
        finally:
            self.db.in_transaction = False
        return made

    def _was_committed(self, ours: bytes, before: bytes, exc: Exception) -> bool:
        """Whether the transaction that wrote this mark was committed; waits for it to end, should it still be at it."""
        try:
            self.db.connect_again(_PATIENCE_S)
            ((now,),) = self.db.script(self._begin + _LOCK)
            self.db.script("ROLLBACK")
        except psycopg.Error:
            raise _UnknownEndError from exc
        if bytes(now) not in (ours, before):
            raise _UnknownEndError from exc  # somebody else has written since
        return bytes(now) == ours

    @contextmanager
    def doing(self, what: str) -> Iterator[None]:
        try:
            yield
        except psycopg.Error as exc:
            raise StoreError(f"{self.place}: cannot {what}: {_why(exc)}", hint=_advice(exc)) from exc


def _why(exc: psycopg.Error) -> str:
    if isinstance(exc, errors.LockNotAvailable):
        return f"another Historon has been writing for more than {_BUSY_S}s"
    return (str(exc).strip().splitlines() or ["the server gave no reason"])[0]


def _advice(exc: psycopg.Error) -> str:
    advice: dict[type[psycopg.Error], str] = {
        errors.LockNotAvailable: "wait for it to end, or check on the server which session locks the row in meta",
        errors.DiskFull: "the server's disk is full: free some space there; nothing was half written",
        errors.InsufficientPrivilege: "let the account own the database, or its tables",
        errors.ReadOnlySqlTransaction: "the server is read-only, such as a standby: name the primary server",
        errors.DataCorrupted: "the server reports damage: rebuild the store from a copy",
    }
    found = next((text for kind, text in advice.items() if isinstance(exc, kind)), "")
    if found:
        return found
    is_away = isinstance(exc, psycopg.OperationalError)
    return "check that the server is up, and that this machine can reach it" if is_away else "see the server's log"
