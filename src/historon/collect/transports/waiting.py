"""Exports that wait in a folder or mailbox: which of them were taken, and which is next.

They are taken in the order in which they came, each once. What is known of those that are still there is remembered
with the version itself, so that neither can be without the other.
"""

import hashlib
import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import ClassVar, Generic, Literal, Protocol, TypeVar

from historon.errors import StoreError
from historon.estate import Clauses, Procedure

__all__ = ["Arriving", "Choice", "Seen", "choose_next"]

_MARK = 16  # letters of a digest by which one that was taken is known again


class Arriving(Procedure, frozen=True, kw_only=True):
    """Where exports arrive, which of them are taken, and what becomes of one that was."""

    arriving: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = None

    folder: str | None = None
    then: Literal["keep", "move", "remove"] = "keep"
    move_to: str = "taken"
    take: Literal["all", "newest"] = "all"

    def __post_init__(self) -> None:
        """Keys that mean nothing without another."""
        super().__post_init__()
        if self.then != "move" and self.move_to != "taken":
            raise ValueError('move_to moves nothing (set then = "move", or remove it)')

    @property
    def place(self) -> str:
        """See Procedure."""
        return self.folder or ""

    @property
    def moves_to(self) -> str | None:
        """See Procedure."""
        return None if self.then == "keep" else self.move_to


class _Waiting(Protocol):
    @property
    def identity(self) -> str:
        """What it is known by: the same for the same export alone."""


W = TypeVar("W", bound=_Waiting)


@dataclass(frozen=True)
class Seen:
    """What was taken, or put away, of what is there; `new` where nothing was ever taken from it."""

    marks: frozenset[str]
    new: bool = False

    @classmethod
    def parse(cls, text: str | None) -> "Seen":
        """As it was remembered; StoreError when that is damaged."""
        if not text:
            return cls(frozenset(), new=True)
        try:
            marks = json.loads(text)
        except (ValueError, RecursionError):
            marks = None
        if not isinstance(marks, list) or not all(isinstance(mark, str) for mark in marks):
            raise StoreError(
                "what the ledger remembers of exports that were taken is damaged",
                hint="take the store back from a copy",
            )
        return cls(frozenset(marks))

    def knows(self, one: _Waiting) -> bool:
        """Whether it was taken before."""
        return _mark(one) in self.marks

    def after(self, taken: Iterable[_Waiting], there: Iterable[_Waiting]) -> str:
        """What to remember once these are taken; those that are there no more are forgotten."""
        still_there = [one for one in there if self.knows(one)]
        marks = {_mark(one) for one in (*taken, *still_there)}
        return json.dumps(sorted(marks))


def _mark(one: _Waiting) -> str:
    return hashlib.sha256(one.identity.encode("utf-8", "surrogateescape")).hexdigest()[:_MARK]


@dataclass(frozen=True)
class Choice(Generic[W]):
    """Which export is next; `passed` are older ones that are put away untaken, `later` those that still wait."""

    one: W
    passed: Sequence[W]
    later: Sequence[W]


def choose_next(waiting: Sequence[W], seen: Seen, procedure: Arriving) -> Choice[W] | None:
    """The next of those that wait, the oldest first; None when nothing does.

    Where the procedure wants the newest alone, and at the first sight of a place whose originals stay, the newest is
    taken and the others are passed over.
    """
    unseen = [one for one in waiting if not seen.knows(one)]
    if not unseen:
        return None
    if procedure.take == "newest" or (seen.new and procedure.then == "keep"):
        return Choice(unseen[-1], unseen[:-1], ())
    return Choice(unseen[0], (), unseen[1:])
