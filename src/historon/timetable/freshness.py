"""How old each source's last good version is, against how old it may get."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from historon.estate import Estate, Source
from historon.store import Outcome, SourceState, Store

__all__ = ["Freshness", "SourceStatus", "statuses"]

_AGEING = 0.8  # of max_age


class Freshness(StrEnum):
    """The age of a source's last good version against its `max_age`, the worst first.

    Only sources with a `max_age` are judged: one without it has `no limit`, and one that is not collected on purpose is
    `skipped`, whatever its limit.
    """

    NEVER = "never"
    OVERDUE = "overdue"
    AGEING = "ageing"
    SKIPPED = "skipped"
    FRESH = "fresh"
    NO_LIMIT = "no limit"

    @property
    def trouble(self) -> bool:
        """Whether somebody has to do something."""
        return self in (Freshness.NEVER, Freshness.OVERDUE)


@dataclass(frozen=True)
class SourceStatus:
    """One source on the board. `age` is the time since its last good version was made or last confirmed."""

    source: Source
    freshness: Freshness
    age: timedelta | None
    state: SourceState

    @property
    def ailing(self) -> bool:
        """Whether the last try went wrong, whatever the age of its last good version."""
        return self.freshness is not Freshness.SKIPPED and self.state.outcome in (Outcome.FAILED, Outcome.SUSPECT)

    @property
    def well(self) -> bool:
        """Whether neither its age nor its last try needs action."""
        return not self.freshness.trouble and not self.ailing


def statuses(estate: Estate, sources: Sequence[Source], store: Store, now: datetime) -> list[SourceStatus]:
    """The board: those in trouble first, then those whose last try went wrong, then by name."""
    states = store.states()
    board = [_status(source, states.get(source.name, SourceState(source.name)), now) for source in sources]
    order = list(Freshness)
    return sorted(board, key=lambda one: (order.index(one.freshness), not one.ailing, one.source.name))


def _status(source: Source, state: SourceState, now: datetime) -> SourceStatus:
    age = now - state.confirmed_at if state.confirmed_at else None
    return SourceStatus(source, _freshness(source, age), age, state)


def _freshness(source: Source, age: timedelta | None) -> Freshness:
    if source.skip is not None:
        return Freshness.SKIPPED
    if source.max_age is None:
        return Freshness.NO_LIMIT
    if age is None:
        return Freshness.NEVER
    if age > source.max_age:
        return Freshness.OVERDUE
    return Freshness.AGEING if age > source.max_age * _AGEING else Freshness.FRESH
