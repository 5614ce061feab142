"""How many sources are visited at the same time: over all, by label, and through each jump host.

Those that failed the last time may fail again only when their time is up: together they take half of all places.
"""

import asyncio
from collections.abc import AsyncIterator
from contextlib import AsyncExitStack, asynccontextmanager

from historon.estate import Estate, Source

__all__ = ["Slots"]


class Slots:
    """The places of a round. A source waits for its own narrow ones first, so that it keeps no other waiting."""

    def __init__(self, estate: Estate) -> None:
        self._all = asyncio.Semaphore(estate.settings.at_once)
        self._failing = asyncio.Semaphore(max(1, estate.settings.at_once // 2))
        self._limits = estate.settings.at_once_by
        self._jumps = {name: jump.at_once for name, jump in estate.jumps.items() if jump.at_once}
        self._narrow: dict[tuple[str, str], asyncio.Semaphore] = {}

    @asynccontextmanager
    async def for_source(self, source: Source, *, failing: bool = False) -> AsyncIterator[None]:
        """Hold all the places that this source takes; always asked for in one order, so that nobody waits in a ring."""
        async with AsyncExitStack() as held:
            for label, limit in sorted(self._limits.items()):
                if label in source.labels:
                    await held.enter_async_context(self._place(f"label {label}", source.labels[label], limit))
            if source.via in self._jumps:
                await held.enter_async_context(self._place("jump", source.via or "", self._jumps[source.via or ""]))
            if failing:
                await held.enter_async_context(self._failing)
            await held.enter_async_context(self._all)
            yield

    def _place(self, kind: str, value: str, limit: int) -> asyncio.Semaphore:
        return self._narrow.setdefault((kind, value), asyncio.Semaphore(limit))
