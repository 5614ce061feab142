"""How many sources are visited at the same time: over all, by label, and through each jump host.

Most places are kept for sources with a good record. Those that failed the last time take half of all places at most,
and those that never answered a quarter: what hangs, or is there for mischief, lets the others be in time.
"""

import asyncio
from collections.abc import AsyncIterator, Sequence
from contextlib import AsyncExitStack, asynccontextmanager
from enum import Enum, auto

from historon.base.errors import StoreError
from historon.estate import Estate, Source
from historon.store import Outcome, Store

__all__ = ["Record", "Slots", "record_of"]


class Record(Enum):
    """How a source fared until now."""

    GOOD = auto()
    FAILING = auto()
    NEVER = auto()  # has it had a good version


def record_of(store: Store, source: str) -> Record:
    """How a source fared, by the store; good where that cannot be read."""
    try:
        state = store.state(source)
    except StoreError:
        return Record.GOOD
    if state.good is None:
        return Record.NEVER
    return Record.FAILING if state.outcome is Outcome.FAILED else Record.GOOD


class Slots:
    """The places of rounds. A source waits for its own narrow ones first, so that it keeps no other waiting.

    While no source has a good record, as in the first round of an estate, all places are for those that never answered.
    """

    def __init__(self, estate: Estate) -> None:
        self._all = asyncio.Semaphore(estate.settings.at_once)
        self._failing = asyncio.Semaphore(max(1, estate.settings.at_once // 2))
        self._never = asyncio.Semaphore(max(1, estate.settings.at_once // 4))
        self._limits = estate.settings.at_once_by
        self._jumps = {name: jump.at_once for name, jump in estate.jumps.items() if jump.at_once}
        self._narrow: dict[tuple[str, str], asyncio.Semaphore] = {}
        self._any_good = False

    def expect(self, sources: Sequence[Source], store: Store) -> None:
        """Know of what is to come, so that places are kept for those with a good record from the beginning."""
        if not self._any_good:
            self._any_good = any(record_of(store, source.name) is Record.GOOD for source in sources)

    @asynccontextmanager
    async def for_source(self, source: Source, record: Record) -> AsyncIterator[None]:
        """Hold all the places that this source takes; always asked for in one order, so that nobody waits in a ring."""
        async with AsyncExitStack() as held:
            for label, limit in sorted(self._limits.items()):
                if label in source.labels:
                    await held.enter_async_context(self._place(f"label {label}", source.labels[label], limit))
            if source.via in self._jumps:
                await held.enter_async_context(self._place("jump", source.via or "", self._jumps[source.via or ""]))
            if record is Record.NEVER and self._any_good:
                await held.enter_async_context(self._never)
            if record is not Record.GOOD and self._any_good:
                await held.enter_async_context(self._failing)
            await held.enter_async_context(self._all)
            yield

    def _place(self, kind: str, value: str, limit: int) -> "asyncio.Semaphore":
        return self._narrow.setdefault((kind, value), asyncio.Semaphore(limit))
