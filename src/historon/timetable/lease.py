"""The right to be the only service of a store, which runs out unless it is renewed."""

import asyncio
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime, timedelta

from historon.base.errors import OutsideError, StoreError
from historon.base.processes import process_in_words, this_process
from historon.store import Store
from historon.timetable.desk import LOG

__all__ = ["LEASE", "Lease", "LeaseLostError"]

LEASE = timedelta(seconds=60)


class LeaseLostError(OutsideError):
    """Another service keeps the timetables, as this one was stopped for longer than its lease lasts."""


class Lease:
    """Held by this process once it was taken; `lasts` is for how long without being renewed."""

    def __init__(self, clock: Callable[[], datetime], lasts: timedelta) -> None:
        self._clock = clock
        self._lasts = lasts
        self._renewed = clock()
        self.holder = this_process()
        self.held = False

    def take(self, store: Store) -> None:
        """Take or renew it. LeaseLostError when another has taken it from us, OutsideError when another has it."""
        now = self._clock()
        other = store.lease(self.holder, now, now + self._lasts)
        if other:
            error = LeaseLostError if self.held else OutsideError
            raise error(
                f"another service keeps the timetables of this store: {process_in_words(other)}",
                hint="stop that one, or wait a minute",
            )
        self._renewed = now
        self.held = True

    def renew_if_over(self, store: Store) -> None:
        """Ask for it again where this process was stopped for longer than it lasts: another may be at it."""
        if abs(self._clock() - self._renewed) > self._lasts:
            self.take(store)

    def is_to_renew(self, now: datetime) -> bool:
        """Whether it is time to renew it."""
        return abs(now - self._renewed) > self._lasts / 3

    async def stand_by(self, store: Store, stop: "asyncio.Event", taken: Callable[[], None]) -> None:
        """Wait until it is ours, and call `taken`; or until we are to stop, in which case nothing was begun."""
        said = ""
        while not stop.is_set():
            try:
                self.take(store)
                taken()
                return
            except (OutsideError, StoreError) as exc:
                if said != exc.message:
                    LOG.info("waits to take over: %s", exc.message)
                said = exc.message
            with suppress(TimeoutError):
                await asyncio.wait_for(stop.wait(), self._lasts.total_seconds() / 12)
