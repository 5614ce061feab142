"""Exports that wait in a folder or mailbox: which of them were taken, and which is next.

They are taken in the order in which they came, each once; what belongs together is taken together. What is known of
those that are still there is remembered with the version itself, so that neither can be without the other.
"""

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, ClassVar, Generic, Literal, Protocol, TypeVar

from historon.base.errors import StoreError
from historon.collect.transports.interface import Target
from historon.estate import Clauses, Duration, Procedure, Pull, Step, values_of, walk

__all__ = ["Arriving", "Choice", "Delivery", "Seen", "choose_next", "deliveries", "pulls_of"]

_SAME_NIGHT = timedelta(hours=12)
_MARK = 16  # letters of a digest by which one that was taken is known again


class Arriving(Procedure, frozen=True, kw_only=True):
    """Where exports arrive, which of them are taken, and what becomes of one that was.

    Parts of one export arrive within the time of `together`.
    """

    arriving: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = None

    folder: str | None = None
    then: Literal["keep", "move", "remove"] = "keep"
    move_to: str = "taken"
    take: Literal["all", "newest"] = "all"
    together: Duration = Duration(hours=1)

    def __post_init__(self) -> None:
        """Keys that mean nothing without another."""
        super().__post_init__()
        if self.then != "move" and self.move_to != "taken":
            raise ValueError('move_to moves nothing (set then = "move", or remove it)')

    @property
    def place(self) -> str:
        return self.folder or ""

    @property
    def moves_to(self) -> str | None:
        return None if self.then == "keep" else self.move_to


class _Waiting(Protocol):
    @property
    def identity(self) -> str:
        """What it is known by: the same for the same export alone."""

    @property
    def arrived(self) -> datetime:
        """When it came."""

    @property
    def key(self) -> str | None:
        """What those that belong together have in common; None where only the time tells."""


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
                "the ledger's record of collected files is damaged",
                hint="rebuild the store from a copy",
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


Delivery = dict[str, W]  # what came together: by the pull that takes it, as it is written


def deliveries(waiting: Mapping[str, Sequence[W]], together: timedelta) -> list[Delivery[W]]:
    """What came together, in the order in which it came; `waiting` are those of each pull that were not taken yet.

    The same letter, or files of a night whose names agree where their patterns leave room, belong together; then what
    came within the time of `together`, and next to each other.
    """
    found: list[Delivery[W]] = []
    for some in _alike(waiting):
        free = [(_apart(some, other), -at, other) for at, other in enumerate(found) if not some.keys() & other.keys()]
        near = [row for row in free if row[0] <= together]
        if near:
            min(near, key=lambda row: row[:2])[2].update(some)
        else:
            found.append(some)
    return found


def _alike(waiting: Mapping[str, Sequence[W]]) -> list[Delivery[W]]:
    """What belongs together by its key, in the order in which it came."""
    everything = [(one.arrived, at, pull, one) for pull, some in waiting.items() for at, one in enumerate(some)]
    found: list[Delivery[W]] = []
    by_key: dict[str, Delivery[W]] = {}
    for *_, pull, one in sorted(everything, key=lambda row: row[:2]):
        same = by_key.get(one.key or "")
        if same is not None and pull not in same and _apart({pull: one}, same) <= _SAME_NIGHT:
            same[pull] = one
            continue
        found.append({pull: one})
        if one.key:
            by_key[one.key] = found[-1]
    return found


def _apart(some: Delivery[W], others: Delivery[W]) -> timedelta:
    return min(abs(one.arrived - other.arrived) for one in some.values() for other in others.values())


@dataclass(frozen=True)
class Choice(Generic[W]):
    """Which delivery is next; `passed` are older ones that are put away untaken, `later` those that still wait."""

    one: Delivery[W]
    passed: Sequence[Delivery[W]]
    later: Sequence[Delivery[W]]

    @property
    def taken(self) -> list[W]:
        """All that is not to be looked at again, each once."""
        return list({one.identity: one for some in (*self.passed, self.one) for one in some.values()}.values())


def choose_next(
    waiting: Sequence[Delivery[W]], wanted: Iterable[str], procedure: Arriving, *, new: bool
) -> Choice[W] | None:
    """The next of those that wait, the oldest first; None when nothing does.

    Where the procedure wants the newest alone, and at the first sight of a place whose originals stay (`new`), the
    newest that has all that is `wanted` is taken, and the older ones are passed over.
    """
    if not waiting:
        return None
    if procedure.take == "newest" or (new and procedure.then == "keep"):
        whole = [at for at, one in enumerate(waiting) if set(wanted) <= one.keys()]
        at = whole[-1] if whole else len(waiting) - 1
        return Choice(waiting[at], waiting[:at], waiting[at + 1 :])
    return Choice(waiting[0], (), waiting[1:])


def pulls_of(target: Target[Any], also: Pull[Any] | None = None) -> list[Pull[Any]]:
    """The steps that take something of what arrives, as far as their `when` holds; with the one that is at hand."""
    values = values_of(target.source, target.procedure, target.account.user if target.account else "")
    found = {
        step.says: step for _, step in walk(target.procedure.steps) if isinstance(step, Pull) and _fits(step, values)
    }
    return [*found.values()] if also is None or also.says in found else [also]


def _fits(step: Step, values: Mapping[str, Any]) -> bool:
    return all(pattern.compiled.search(str(values.get(name, "")).encode()) for name, pattern in step.when.items())
