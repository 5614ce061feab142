"""What another process began and did not end: rounds, pauses, and what it took and did not put away."""

import logging
from collections.abc import Sequence
from datetime import datetime, timedelta

from historon.base.errors import StoreError
from historon.collect import owing, resume_paused, settle_owed
from historon.estate import Source
from historon.store import ESTATE, StillPaused, at_work_topic, still_paused
from historon.timetable.desk import LOG, Desk
from historon.timetable.schedule import Schedule

__all__ = ["Inherited"]

_RESUME_AGAIN = timedelta(minutes=5)  # between two tries to resume what was left paused
_LOOKED_AT = 20  # rounds, of which some may not have ended
_RESUME, _SETTLE = "resuming", "settling"


class Inherited:
    """Ends what others began, beside everything else."""

    def __init__(self, desk: Desk, schedule: Schedule) -> None:
        self._desk = desk
        self._schedule = schedule
        self._again: dict[str, datetime] = {}  # by source, when it is tried again to resume it

    def end_rounds(self, holder: str, trigger: str) -> None:
        """End the rounds of a service before this one that is stopped, and not dead: it records nothing in them now."""
        store = self._desk.store
        for one in store.rounds(_LOOKED_AT):
            if one.ended is not None or one.trigger != trigger or store.at_work(one) is False:
                continue
            if store.recall(ESTATE, at_work_topic(one.number)) != holder:
                store.end_round(one.number, self._desk.clock())
                LOG.warning("ended round %s of a service that is stopped", one.number)

    def settle(self) -> None:
        """Begin to put away what a process took that ended before it could."""
        self._desk.beside.begin(_SETTLE, self._settle_owed())

    async def _settle_owed(self) -> None:
        desk, busy, now = self._desk, self._schedule.busy, self._desk.clock()
        due = {name for name, at in self._schedule.next.items() if at <= now}
        sources: list[Source] = []
        try:
            sources = owing(desk.estate, desk.store, but=busy | due)
            busy |= {source.name for source in sources}
            for wrong in await settle_owed(desk.estate, desk.store, desk.clock, sources):
                LOG.warning("%s", wrong)
        except StoreError as exc:
            LOG.error("the store is in trouble: %s", exc)
        finally:
            busy -= {source.name for source in sources}

    def look(self, now: datetime) -> None:
        """Resume what another process, or this one, left paused: at once, and then again every little while."""
        if self._desk.beside.has(_RESUME):
            return
        lefts = still_paused(self._desk.store, now)
        wanted = [one for one in lefts if self._again.get(one.source, now) <= now]
        if wanted:
            self._again |= {one.source: now + _RESUME_AGAIN for one in wanted}
            self._desk.beside.begin(_RESUME, self._resume(wanted))

    async def _resume(self, lefts: Sequence[StillPaused]) -> None:
        desk = self._desk
        try:
            found = await resume_paused(desk.estate, desk.store, desk.clock, lefts)
            for one in found:
                LOG.log(logging.CRITICAL if one.trouble else logging.WARNING, "%s", one)
            desk.troubled = desk.troubled or any(one.trouble for one in found)
            desk.notifier.tell_resumed(found)
        except StoreError as exc:
            LOG.error("the store is in trouble: %s", exc)
