"""What an engine gives to the ledger: a database that is asked in the SQL which all engines share, and transactions.

The shared SQL has `?` for values, integers of 64 bits, texts and bytes; `ON CONFLICT`, `RETURNING` and `CASE`. New
numbers are the highest ones plus one, which is safe as one transaction writes at a time.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from functools import wraps
from typing import Any, Concatenate, ParamSpec, Protocol, TypeVar

import msgspec

from historon.base.errors import StoreError

__all__ = ["Database", "Ledgered", "Rows", "Transactions", "writing"]

_SENSELESS = (ValueError, TypeError, IndexError, KeyError, OverflowError, msgspec.MsgspecError)
_P = ParamSpec("_P")
_T = TypeVar("_T")
_Self = TypeVar("_Self", bound="Ledgered")


class Rows(Protocol):
    """What a question is answered with."""

    @property
    def rowcount(self) -> int:
        """How many rows were changed."""

    def fetchone(self) -> Any:
        """The next row, or None."""

    def fetchall(self) -> list[Any]:
        """All the rows that are left."""

    def __iter__(self) -> Iterator[Any]: ...


class Database(Protocol):
    """A connection; it begins and ends no transaction by itself."""

    def execute(self, sql: str, values: Sequence[Any] = (), /) -> Rows:
        """Run one statement."""

    def executemany(self, sql: str, values: Iterable[Sequence[Any]], /) -> object:
        """Run a statement that returns nothing for each of these rows of values."""


class Transactions(ABC):
    """How an engine writes and reads. `db` is asked within what `write`, `doing` and `reading` are about.

    `place` is what messages call the ledger.
    """

    db: Database
    place: str
    undone: Callable[[], None]  # called after a transaction that came to nothing: what was kept at hand is wrong now

    @abstractmethod
    def write(self, what: str, work: Callable[[], _T]) -> _T:
        """Do some work in one transaction: all of it, or, with StoreError, nothing. It may be done more than once."""

    @abstractmethod
    def doing(self, what: str) -> AbstractContextManager[None]:
        """The engine's errors as StoreError, in the words of someone who has to mend them."""

    @contextmanager
    def reading(self, what: str) -> Iterator[None]:
        """The same; and a row that says what none can say is damaged, whatever stumbles over it."""
        try:
            with self.doing(what):
                yield
        except _SENSELESS as exc:
            hint = "historon verify shows all damage; rebuild the store from a copy"
            raise StoreError(f"{self.place}: cannot {what}: its record in the ledger is damaged", hint=hint) from exc


class Ledgered(Protocol):
    """What writes in transactions."""

    @property
    def transactions(self) -> Transactions:
        """Those of its engine."""


def writing(
    what: str,
) -> Callable[[Callable[Concatenate[_Self, _P], _T]], Callable[Concatenate[_Self, _P], _T]]:
    """Make each call of a method one transaction; `what` says in a message what could not be done."""

    def made(method: Callable[Concatenate[_Self, _P], _T]) -> Callable[Concatenate[_Self, _P], _T]:
        @wraps(method)
        def called(self: _Self, /, *args: _P.args, **kwargs: _P.kwargs) -> _T:
            return self.transactions.write(what, lambda: method(self, *args, **kwargs))

        return called

    return made
