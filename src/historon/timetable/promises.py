"""Is every promise kept? How old each source's last good version is, against how old it may get."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from historon.estate import Estate, Source
from historon.store import Outcome, SourceState, Store

__all__ = ["SourceStatus", "Standing", "standings"]

_CLOSE = 0.8  # of the promise


class Standing(StrEnum):
    """How a source stands to its promise, the worst first; one that is skipped is paused, whatever was promised."""

    NEVER = "never"
    BROKEN = "broken"
    CLOSE = "close"
    PAUSED = "paused"
    KEPT = "kept"
    NONE = "no promise"

    @property
    def trouble(self) -> bool:
        """Whether somebody has to do something."""
        return self in (Standing.NEVER, Standing.BROKEN)


@dataclass(frozen=True)
class SourceStatus:
    """One source on the board. `age` is the time since its last good version was made or last confirmed."""

    source: Source
    standing: Standing
    age: timedelta | None
    state: SourceState

    @property
    def ailing(self) -> bool:
        """Whether the last try went wrong, promise or not."""
        return self.standing is not Standing.PAUSED and self.state.outcome in (Outcome.FAILED, Outcome.SUSPECT)


def standings(estate: Estate, sources: Sequence[Source], store: Store, now: datetime) -> list[SourceStatus]:
    """The board: those in trouble first, then those whose last try went wrong, then by name."""
    states = store.states()
    board = [_status(source, states.get(source.name, SourceState(source.name)), now) for source in sources]
    order = list(Standing)
    return sorted(board, key=lambda one: (order.index(one.standing), not one.ailing, one.source.name))


def _status(source: Source, state: SourceState, now: datetime) -> SourceStatus:
    age = now - state.confirmed_at if state.confirmed_at else None
    if source.skip is not None:
        standing = Standing.PAUSED
    elif source.promise is None:
        standing = Standing.NONE
    elif age is None:
        standing = Standing.NEVER
    elif age > source.promise:
        standing = Standing.BROKEN
    else:
        standing = Standing.CLOSE if age > source.promise * _CLOSE else Standing.KEPT
    return SourceStatus(source, standing, age, state)
