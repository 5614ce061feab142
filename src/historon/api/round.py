"""A round that is on record."""

from collections import Counter
from dataclasses import dataclass, field, fields, replace
from typing import Self

from historon.api.context import Opened, Where
from historon.base.errors import UsageError
from historon.store import Removed, Visit
from historon.store import Round as Record

__all__ = ["Round", "round_numbered", "rounds_on_record"]


@dataclass(frozen=True)
class Round(Record):
    """One pass over some sources: `number`, `began` and `ended` (UTC), `trigger`, and its `outcomes` counted.

    `ended` is None for a round that is running or was interrupted. With labels (`where`) only the sources that have
    them are counted.
    """

    opened: Opened = field(repr=False, compare=False, kw_only=True)
    where: Where = field(default=(), repr=False, compare=False, kw_only=True)

    @classmethod
    def of(cls, opened: Opened, record: Record, where: Where = ()) -> Self:
        """The round of a record of the store."""
        values = {one.name: getattr(record, one.name) for one in fields(Record)}
        made = cls(**values, opened=opened, where=where)
        if not where:
            return made
        return replace(made, outcomes=dict(Counter(visit.outcome for visit in made.visits())))

    @property
    def ending(self) -> str:
        """`ended`, `running`, `interrupted`, or `not ended` where this machine cannot know."""
        if self.ended is not None:
            return "ended"
        return {True: "running", False: "interrupted", None: "not ended"}[self.opened.store.at_work(self)]

    def visits(self) -> list[Visit]:
        """The outcome of each source: the version that it led to, how long each step took, and a note.

        Example: `[visit.outcome for visit in estate.rounds(1)[0].visits()]`
        """
        asked = self._asked()
        return [one for one in self.opened.store.visits(self.number) if asked is None or one.source in asked]

    def removed(self) -> list[Removed]:
        """The versions that were pruned after the round."""
        asked = self._asked()
        return [one for one in self.opened.store.removed_after(self.number) if asked is None or one.source in asked]

    def _asked(self) -> set[str] | None:
        return {source.name for source in self.opened.select(where=self.where)} if self.where else None


def rounds_on_record(opened: Opened, last: int, where: Where = ()) -> list[Round]:
    """The last rounds, newest first."""
    return [Round.of(opened, record, where) for record in opened.store.rounds(last)]


def round_numbered(opened: Opened, number: int, where: Where = ()) -> Round:
    """One round. Raises UsageError when it does not exist."""
    for record in opened.store.rounds(1, up_to=number):
        if record.number == number:
            return Round.of(opened, record, where)
    raise UsageError(f"there is no round {number}", hint="historon rounds")
