"""Services that were paused for an export and left so, as Historon ended before it could resume them.

While a source is paused, the ledger says how to resume it, which process is at it, and until when at most. Whoever
finds that this process is gone, or gave up, resumes the source at once, one of them alone.
"""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from historon.base.errors import where_raised
from historon.base.processes import this_process
from historon.base.workers import Workers
from historon.collect.access import Access, Clock
from historon.collect.failures import NOT_RESUMED, CollectError
from historon.estate import Estate, Source
from historon.store import PAUSED, StillPaused, Store

__all__ = ["Resumed", "resume_paused"]


@dataclass(frozen=True)
class Resumed:
    """What became of one that was left paused; `trouble` says why it could not be resumed, empty when it could."""

    left: StillPaused
    trouble: str = ""

    def __str__(self) -> str:
        """What became of it, and what is to be done now."""
        if not self.trouble:
            return f"the service of {self.left.source} was left paused, and is resumed"
        return f"{NOT_RESUMED}: {self.left.source}: {self.trouble} (resume it by hand, now: {self.left.words})"


async def resume_paused(estate: Estate, store: Store, clock: Clock, lefts: Sequence[StillPaused]) -> list[Resumed]:
    """Resume these; returns what became of each that nobody else was at by now.

    Raises StoreError when the ledger cannot be written.
    """
    found = []
    for left in lefts:
        note = json.loads(left.note)
        source = estate.sources.get(left.source)
        until = clock() + (estate.procedure_of(source).deadline if source else timedelta())
        taken = json.dumps({**note, "by": this_process(), "until": until.isoformat()})
        if store.swap(left.source, PAUSED, left.note, taken):
            trouble = await _trouble(estate, source, store, clock, left)
            given_up = json.dumps({**note, "by": ""})
            store.swap(left.source, PAUSED, taken, given_up if trouble else "")
            found.append(Resumed(left, trouble))
    return found


async def _trouble(estate: Estate, source: Source | None, store: Store, clock: Clock, left: StillPaused) -> str:
    """Why it could not be resumed; empty when it could."""
    if source is None:
        return "the estate file no longer has this source"
    workers = Workers()
    try:
        reach = Access(estate, store, clock, workers)
        await reach.fetch_accounts([source])
        await reach.resume(source, left.resume)
    except CollectError as exc:
        return exc.message.removeprefix(f"{NOT_RESUMED}: ")
    except Exception as exc:
        return f"a defect in Historon itself: {where_raised(exc)}"
    finally:
        workers.close()
    return ""
